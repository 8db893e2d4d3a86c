import type { ByteString } from '@tessarion/core';

/** One thing found in a folder tree. Paths are byte strings relative to the folder that was listed. */
export interface TreeNode {
  readonly path: ByteString;
  readonly type: 'file' | 'folder' | 'link' | 'special';
  readonly mode: number;
  readonly bytes: number;
  /** Changes whenever the content or the entry does: size, mtime, ctime (ns) and inode. */
  readonly identity: string;
  readonly changedAtNs: bigint;
  /** Where a link leads. */
  readonly target: ByteString | undefined;
}

export interface CommandResult {
  readonly code: number;
  readonly output: string;
  readonly errors: string;
}

export interface CommandOptions {
  readonly folder?: string;
  readonly variables?: Readonly<Record<string, string>>;
  readonly input?: Buffer;
  readonly timeoutSeconds?: number;
}

/** A machine where environments live. All paths are absolute; byte strings where they come from a listing. */
export interface ServerConnection {
  listTree(folder: ByteString): AsyncIterable<TreeNode>;
  /** The entries of one folder, in order; a folder that is not there has none. */
  listFolder(folder: ByteString): AsyncIterable<TreeNode>;
  readFile(path: ByteString): Promise<Buffer>;
  /** Writes to a temporary name beside the target and renames it there. */
  writeFile(path: ByteString, content: Uint8Array, mode: number): Promise<void>;
  copyFile(from: ByteString, to: ByteString, mode: number): Promise<void>;
  makeFolder(path: ByteString, mode?: number): Promise<void>;
  makeLink(path: ByteString, target: ByteString): Promise<void>;
  makeHardLink(path: ByteString, existing: ByteString): Promise<void>;
  /** Lets `path` lead to `target` in one atomic step, by way of the temporary name `via`. */
  replaceLink(path: ByteString, target: ByteString, via: ByteString): Promise<void>;
  readLink(path: ByteString): Promise<ByteString | undefined>;
  rename(from: ByteString, to: ByteString): Promise<void>;
  exists(path: ByteString): Promise<boolean>;
  /** Removes a file or a whole folder; nothing there is no error. */
  remove(path: ByteString): Promise<void>;
  freeBytes(path: ByteString): Promise<number>;
  /** Runs a program without a shell; it ends with the connection. */
  run(program: string, args: readonly string[], options?: CommandOptions): Promise<CommandResult>;
}
