import { isDeepStrictEqual } from 'node:util';
import type { ByteString } from '@tessarion/core';
import { EngineError } from './errors.js';
import type { Carrier, DatabaseLogin } from './shapes.js';

/** User and group that something belongs to, as numbers of the server's. */
export interface Owner {
  readonly uid: number;
  readonly gid: number;
}

/** The entries of an access control list as acl(5) writes them, users and groups as numbers, with those of a folder's default. */
export type Acl = string;

/** One thing found in a folder tree, plain data where it is listed one by one. Paths are byte strings relative to the folder that was listed. */
export interface TreeNode extends Owner {
  readonly path: ByteString;
  readonly type: 'file' | 'folder' | 'link' | 'special';
  readonly mode: number;
  readonly bytes: number;
  /** Changes whenever the content or the entry does, and is the same as long as neither does. */
  readonly identity: string;
  /** Which file it is: the same under each of its names, and another one for every other file. */
  readonly file: string;
  /** Changes whenever the content is written, and not with another name, mode or owner. */
  readonly written: string;
  /** When the entry changed last, by the clock of the machine that asks. */
  readonly changedAtNs: bigint;
  /** When its content was written last, in seconds since 1970. */
  readonly modified: number;
  /** Where a link leads. */
  readonly target: ByteString | undefined;
}

/** Everything below a folder, as it was listed at once. */
export interface WholeListing {
  /**
   * Two listings of one folder with the same mark list the same; one where nothing has changed since may have another mark
   * all the same. What had been written less than two seconds before may be written to once more without another one.
   */
  readonly mark: string;
  /** In no order; told apart only when they are asked for. */
  readonly nodes: readonly TreeNode[];
}

/** What a file that is made has beside its content and mode; what is not said is as for what it takes the place of. */
export interface FileMake {
  readonly owner?: Owner | undefined;
  readonly acl?: Acl | undefined;
  /** See {@link TreeNode.modified}; now, where it is not said. */
  readonly modified?: number | undefined;
}

/** A file that is to be made like another one of the same machine. */
export interface CopyOrder extends FileMake {
  readonly from: ByteString;
  readonly to: ByteString;
  readonly mode: number;
}

/** What became of a {@link CopyOrder}. */
export interface CopiedFile {
  readonly identity: string;
  /** Which of the byte strings that were looked for it holds, by their positions. */
  readonly holds: readonly number[];
}

/** How a program ended, and what it said. */
export interface CommandResult {
  readonly code: number;
  readonly output: string;
  readonly errors: string;
}

/** Where and how long a site's program runs, and what it does not see. */
export interface CommandOptions {
  /** Folder of the environment whose program it is, and the one in which it works. */
  readonly environment: ByteString;
  readonly folder: ByteString;
  /** Folders that are not there for it, beside those of other environments. */
  readonly hidden: readonly string[];
  readonly timeoutSeconds: number;
}

/** A file's content, in one or as it comes. */
export type FileContent = Uint8Array | AsyncIterable<Uint8Array>;

/** What a machine is like. */
export interface ServerFacts {
  /** Whether what is made there can be given to other users. */
  readonly isRoot: boolean;
  /** How far its clock is behind this machine's, in milliseconds; below zero where it is ahead. */
  readonly behindMs: number;
  /** Which of the programs that were asked for are not there. */
  readonly missing: readonly string[];
}

/** How a server is reached, as plain data: records hold it, and threads are told it. Each kind may say more. */
export interface ServerReach {
  /** Such as `local`. */
  readonly kind: string;
  /** The folder that holds the folders of environments. */
  readonly base: ByteString;
}

/**
 * A machine where environments live, as far as one folder that holds theirs. All paths are absolute; byte strings where they
 * come from a listing. What is made belongs to the owner that is named, else to whom it replaces, else to whom the folder
 * belongs that it lies in; as far as the connection's user may give it away. No link is followed but those of an environment's layout, whatever takes the place of a folder or a
 * file meanwhile; what is neither file, folder nor link is never opened.
 */
export interface ServerConnection {
  readonly reach: ServerReach;
  /** Whether each call travels: what can be asked for at once is better asked for at once. */
  readonly isFar: boolean;
  /** By way of which databases are reached that its sites name; undefined where this process reaches them itself. */
  readonly carrier: Carrier | undefined;
  /** Looks at the machine. @param programs whether they are there @throws {EngineError} `server-unreachable` */
  about(programs: readonly string[]): Promise<ServerFacts>;
  /** Everything below a folder, each folder before what is in it; what goes away meanwhile is passed over. */
  listTree(folder: ByteString): AsyncIterable<TreeNode>;
  /**
   * Everything below a folder at once and in no order: several times quicker than {@link listTree}, for those who hold
   * all of it anyway. What goes away meanwhile is passed over.
   */
  listWhole(folder: ByteString): Promise<WholeListing>;
  /** The entries of one folder, in order; a folder that is not there has none. */
  listFolder(folder: ByteString): AsyncIterable<TreeNode>;
  /**
   * Reads a file as it is at one moment: again when somebody writes to it meanwhile.
   *
   * @param into memory to read into where the file fits, so that many files need no fresh one each
   * @throws {EngineError} `file-changed` when it is written to all the time, `file-gone` when it is not there
   */
  readFile(path: ByteString, into?: Buffer): Promise<Buffer>;
  /**
   * Reads a file in pieces of `bytes`; the last one is shorter, and an empty file has one empty piece.
   *
   * @throws {EngineError} `file-changed` instead of the last piece when somebody wrote to it meanwhile, `file-gone`
   */
  readPieces(path: ByteString, bytes: number): AsyncIterable<Buffer>;
  /**
   * Makes a file; one that is there already is replaced in one step, by way of a temporary name beside it.
   *
   * @returns its identity
   */
  writeFile(path: ByteString, content: FileContent, mode: number, more?: FileMake): Promise<string>;
  /** One entry; undefined when nothing is there. */
  nodeAt(path: ByteString): Promise<TreeNode | undefined>;
  /** What {@link TreeNode.identity} would be now; undefined when nothing is there. */
  identityOf(path: ByteString): Promise<string | undefined>;
  /** Makes a folder and those that it lies in; one that is there keeps its mode and owner unless they are given. */
  makeFolder(path: ByteString, mode?: number, owner?: Owner): Promise<void>;
  makeLink(path: ByteString, target: ByteString, owner?: Owner): Promise<void>;
  makeHardLink(path: ByteString, existing: ByteString): Promise<void>;
  /**
   * Gives files and links of one folder a second name in another one, each at its own path; folders are there already.
   * What has gone since it was listed is passed over.
   *
   * @param paths relative to both folders, those of one folder beside each other where it should be quick
   */
  linkTree(to: ByteString, from: ByteString, paths: readonly ByteString[]): Promise<void>;
  /**
   * Makes files with the content of other ones as they are at one moment, and looks for some byte strings in them; nothing
   * of it leaves the machine.
   *
   * @returns in their order; nothing for one whose original has gone meanwhile
   */
  copyMany(orders: readonly CopyOrder[], lookFor: readonly ByteString[]): Promise<readonly (CopiedFile | undefined)[]>;
  /** Makes a file of its own with the content, owner, mode and time of another one; nothing may be there yet. */
  copyFile(path: ByteString, existing: ByteString): Promise<void>;
  /** Lets `path` lead to `target` in one atomic step, by way of the temporary name `via`. */
  replaceLink(path: ByteString, target: ByteString, via: ByteString, owner?: Owner): Promise<void>;
  readLink(path: ByteString): Promise<ByteString | undefined>;
  rename(from: ByteString, to: ByteString): Promise<void>;
  exists(path: ByteString): Promise<boolean>;
  /** Whether a folder is there, or a link of a layout leads to one. */
  isFolder(path: ByteString): Promise<boolean>;
  /**
   * Access control lists of what lies in a folder and has more than its mode says, by relative path; `.` is the folder itself.
   *
   * @param paths what is asked for; everything below when it is left out
   * @throws {EngineError} `command-failed` where there are some, and the server has nothing to read them with
   */
  readAcls(folder: ByteString, paths?: readonly ByteString[]): Promise<ReadonlyMap<ByteString, Acl>>;
  /** Gives files and folders access control lists, by path; what is not there is passed over. @throws {EngineError} `command-failed` */
  writeAcls(acls: ReadonlyMap<ByteString, Acl>): Promise<void>;
  /** Removes a file or a whole folder; nothing there is no error. */
  remove(path: ByteString): Promise<void>;
  /**
   * Brings everything that was written on the file system of a folder to the disk (syncfs(2)), so that nothing that leads
   * to it can outlive a loss of power without it.
   *
   * @throws {EngineError} also where something could not be written
   */
  flush(folder: ByteString): Promise<void>;
  freeBytes(path: ByteString): Promise<number>;
  /**
   * Runs a program of a site without a shell, apart from all others: as the user whom the environment's folder belongs to,
   * within limits. Of what it says, the end is kept.
   *
   * @throws {EngineError} `command-failed` when it cannot be started, or not apart
   */
  run(program: string, args: readonly string[], options: CommandOptions): Promise<CommandResult>;
}

const ATTEMPTS = 4;

/** Does again what met a file that changed while it was read. @throws {EngineError} `file-changed` the last time */
export async function whileStill<T>(read: () => Promise<T>): Promise<T> {
  for (let attempt = 1; ; attempt++) {
    try {
      return await read();
    } catch (error) {
      const hasChanged = error instanceof EngineError && error.code === 'file-changed';
      if (!hasChanged || attempt === ATTEMPTS) throw error;
    }
  }
}

/** Does something with a file that was listed; one that has gone away since is passed over, as if never listed. */
export async function whileThere(act: () => Promise<void>): Promise<void> {
  try {
    await act();
  } catch (error) {
    if (!(error instanceof EngineError) || error.code !== 'file-gone') throw error;
  }
}

/** A login of a database as it is reached from a server. */
export const fromServer = <T extends Omit<DatabaseLogin, 'database'>>(
  { carrier }: Pick<ServerConnection, 'carrier'>,
  login: T,
): T => (carrier ? { ...login, by: carrier } : login);

/** Whether two connections lead to one machine, where owners mean the same and files can be made of others. */
export const onOneMachine = (one: ServerConnection, other: ServerConnection): boolean =>
  isDeepStrictEqual({ ...one.reach, base: '' }, { ...other.reach, base: '' });
