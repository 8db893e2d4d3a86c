import { spawn } from 'node:child_process';
import {
  type BigIntStats,
  closeSync,
  constants,
  fchmodSync,
  fstatSync,
  linkSync,
  lstatSync,
  openSync,
  readdirSync,
  readlinkSync,
  readSync,
  renameSync,
  rmSync,
  writeSync,
} from 'node:fs';
import * as fs from 'node:fs/promises';
import type { ByteString } from '@tessarion/core';
import { EngineError, fileChanged, fileError, readError } from '../errors.js';
import {
  type CommandOptions,
  type CommandResult,
  type FileContent,
  type ServerConnection,
  type TreeNode,
  whileStill,
} from './server-connection.js';

const raw = (path: ByteString): Buffer => Buffer.from(path, 'latin1');
const bytes = (path: Buffer): ByteString => path.toString('latin1');

/** The text of a byte path as people write it; bytes that are not UTF-8 show as U+FFFD. */
export const showPath = (path: ByteString): string => raw(path).toString('utf8');

/** Opens a new file, or returns undefined when there is one already. */
function tryCreate(path: Buffer, mode: number): number | undefined {
  try {
    return openSync(path, 'wx', mode);
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'EEXIST') return undefined;
    throw error;
  }
}

/** @param mayBeGone for a folder that was there a moment ago */
function namesIn(folder: ByteString, mayBeGone: boolean): Buffer[] {
  try {
    return readdirSync(raw(folder), { encoding: 'buffer' }) as unknown as Buffer[];
  } catch (error) {
    if (mayBeGone && (error as NodeJS.ErrnoException).code === 'ENOENT') return [];
    throw error;
  }
}

/** As `find` writes it, so that a listing need not be spelled anew. */
const identity = (stat: BigIntStats): string =>
  `${stat.size} ${seconds(stat.mtimeNs)} ${seconds(stat.ctimeNs)} ${stat.ino}`;

function seconds(ns: bigint): string {
  const digits = `${ns}`.padStart(10, '0');
  return `${digits.slice(0, -9)}.${digits.slice(-9)}0`;
}

/** Fills memory from a file's position on. @returns the part that was filled */
function readInto(file: number, memory: Buffer): Buffer {
  let read = 0;
  for (let n = -1; n !== 0 && read < memory.length; read += n)
    n = readSync(file, memory, read, memory.length - read, null);
  return memory.subarray(0, read);
}

/** @throws {EngineError} `file-changed` when somebody wrote to an open file since */
function mustBeStill(file: number, path: ByteString, before: BigIntStats): void {
  if (identity(fstatSync(file, { bigint: true })) !== identity(before)) throw fileChanged(showPath(path));
}

/** Fills a new file, and removes it again when that fails. @returns its identity */
async function fill(path: Buffer, file: number, content: FileContent, mode: number): Promise<string> {
  const write = (piece: Uint8Array): void => {
    for (let at = 0; at < piece.length; ) at += writeSync(file, piece, at);
  };
  try {
    if (content instanceof Uint8Array) write(content);
    else for await (const piece of content) write(piece);
    const made = fstatSync(file, { bigint: true });
    if (Number(made.mode & 0o7777n) === mode) return identity(made);
    fchmodSync(file, mode);
    return identity(fstatSync(file, { bigint: true }));
  } catch (error) {
    rmSync(path, { force: true });
    throw error;
  } finally {
    closeSync(file);
  }
}

/** Type, mode and identity of everything, then its path; of links also where they lead. */
const FIND = [
  '-mindepth',
  '1',
  ...['(', '-type', 'l', '-printf', '%y %m %s %T@ %C@ %i\\0%P\\0%l\\0', ')'],
  '-o',
  '-printf',
  '%y %m %s %T@ %C@ %i\\0%P\\0',
];

const TYPES: Readonly<Record<string, TreeNode['type']>> = { f: 'file', d: 'folder', l: 'link' };

/** An entry as `find` tells it; what is seldom asked for is read when it is. */
class FoundNode implements TreeNode {
  constructor(
    readonly path: ByteString,
    readonly type: TreeNode['type'],
    readonly mode: number,
    readonly identity: string,
    readonly target: ByteString | undefined,
  ) {}

  get bytes(): number {
    return Number(this.identity.slice(0, this.identity.indexOf(' ')));
  }

  get changedAtNs(): bigint {
    const [whole, part] = (this.identity.split(' ')[2] as string).split('.') as [string, string];
    return BigInt(whole) * 1_000_000_000n + BigInt(part.slice(0, 9));
  }
}

function foundNodes(output: ByteString): TreeNode[] {
  const nodes: TreeNode[] = [];
  for (let at = 0; at < output.length; ) {
    const end = output.indexOf('\0', at);
    const blank = output.indexOf(' ', at + 2);
    const pathEnd = output.indexOf('\0', end + 1);
    const [path, octal] = [output.slice(end + 1, pathEnd), output.slice(at + 2, blank)];
    const mode = Number.parseInt(octal, 8);
    const type = TYPES[output[at] as string] ?? 'special';
    const targetEnd = type === 'link' ? output.indexOf('\0', pathEnd + 1) : pathEnd;
    const target = type === 'link' ? output.slice(pathEnd + 1, targetEnd) : undefined;
    nodes.push(new FoundNode(path, type, mode, output.slice(blank + 1, end), target));
    at = targetEnd + 1;
  }
  return nodes;
}

/**
 * The machine that Tessarion itself runs on.
 *
 * Files are read and written without the thread pool: for the many small files of a site its hand-overs cost about ten
 * times what the work does. Those who walk many files let the event loop have its turn in between.
 */
export class LocalServer implements ServerConnection {
  async *listTree(folder: ByteString): AsyncGenerator<TreeNode> {
    yield* this.#list(folder, '');
  }

  async listWhole(folder: ByteString): Promise<readonly TreeNode[]> {
    const name = showPath(folder);
    if (raw(folder).equals(Buffer.from(name))) {
      const found = await this.run('find', [`${name}/`, ...FIND], { variables: { LC_ALL: 'C' } });
      const isGone = (line: string): boolean => line === '' || line.endsWith(': No such file or directory');
      if (found.code === 0 || (found.output !== '' && found.errors.split('\n').every(isGone)))
        return foundNodes(found.output);
    }
    // What `find` cannot be given, or may not read, is listed or refused as one by one.
    const nodes: TreeNode[] = [];
    for await (const node of this.listTree(folder)) nodes.push(node);
    return nodes;
  }

  async *listFolder(folder: ByteString): AsyncGenerator<TreeNode> {
    if (!(await this.exists(folder))) return;
    for (const node of await this.#read(folder, '')) yield node;
  }

  async *#list(folder: ByteString, below: ByteString): AsyncGenerator<TreeNode> {
    for (const node of await this.#read(folder, below)) {
      yield node;
      if (node.type === 'folder') yield* this.#list(folder, node.path);
    }
  }

  async #read(folder: ByteString, below: ByteString): Promise<TreeNode[]> {
    const here = below === '' ? folder : `${folder}/${below}`;
    const names = await guard(here, async () => namesIn(here, below !== ''));
    const sorted = names.map(bytes).sort();
    const nodes = await Promise.all(
      sorted.map((name) => this.#node(here, below === '' ? name : `${below}/${name}`, name)),
    );
    return nodes.filter((node) => node !== undefined);
  }

  async #node(here: ByteString, path: ByteString, name: ByteString): Promise<TreeNode | undefined> {
    const full = raw(`${here}/${name}`);
    try {
      const stat = lstatSync(full, { bigint: true });
      const type = stat.isFile() ? 'file' : stat.isDirectory() ? 'folder' : stat.isSymbolicLink() ? 'link' : 'special';
      return {
        path,
        type,
        mode: Number(stat.mode & 0o7777n),
        bytes: Number(stat.size),
        identity: identity(stat),
        changedAtNs: stat.ctimeNs,
        target: type === 'link' ? bytes(readlinkSync(full, { encoding: 'buffer' })) : undefined,
      };
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return undefined;
      throw fileError(error, showPath(`${here}/${name}`));
    }
  }

  async readFile(path: ByteString, into?: Buffer): Promise<Buffer> {
    const read = (): Promise<Buffer> =>
      whileStill(async () => {
        const file = openSync(raw(path), 'r');
        try {
          const before = fstatSync(file, { bigint: true });
          const bytes = Number(before.size);
          const content = readInto(
            file,
            into && bytes <= into.length ? into.subarray(0, bytes) : Buffer.allocUnsafe(bytes),
          );
          mustBeStill(file, path, before);
          return content;
        } finally {
          closeSync(file);
        }
      });
    return guard(path, read, readError);
  }

  async *readPieces(path: ByteString, bytes: number): AsyncGenerator<Buffer> {
    const file = await guard(path, async () => openSync(raw(path), 'r'), readError);
    try {
      const before = fstatSync(file, { bigint: true });
      for (let left = Number(before.size), isFirst = true; left > 0 || isFirst; isFirst = false) {
        const piece = readInto(file, Buffer.allocUnsafe(Math.min(left, bytes)));
        left = piece.length < bytes ? 0 : left - piece.length;
        if (left === 0) mustBeStill(file, path, before);
        yield piece;
      }
    } catch (error) {
      throw fileError(error, showPath(path));
    } finally {
      closeSync(file);
    }
  }

  async writeFile(path: ByteString, content: FileContent, mode: number): Promise<string> {
    return guard(path, async () => {
      const file = tryCreate(raw(path), mode);
      if (file !== undefined) return fill(raw(path), file, content, mode);
      const temporary = raw(`${path}.tsr-new`);
      rmSync(temporary, { force: true });
      const made = await fill(temporary, openSync(temporary, 'wx', mode), content, mode);
      renameSync(temporary, raw(path));
      return made;
    });
  }

  async nodeAt(path: ByteString): Promise<TreeNode | undefined> {
    const at = path.lastIndexOf('/');
    return this.#node(path.slice(0, at), path, path.slice(at + 1));
  }

  async identityOf(path: ByteString): Promise<string | undefined> {
    return guard(path, async () => {
      const stat = lstatSync(raw(path), { bigint: true, throwIfNoEntry: false });
      return stat && identity(stat);
    });
  }

  async copyFile(from: ByteString, to: ByteString, mode: number): Promise<void> {
    await guard(from, async () => {
      await fs.copyFile(raw(from), raw(to), constants.COPYFILE_FICLONE);
      await fs.chmod(raw(to), mode);
    });
  }

  async makeFolder(path: ByteString, mode = 0o755): Promise<void> {
    await guard(path, async () => {
      await fs.mkdir(raw(path), { recursive: true, mode });
      await fs.chmod(raw(path), mode);
    });
  }

  makeLink(path: ByteString, target: ByteString): Promise<void> {
    return guard(path, () => fs.symlink(raw(target), raw(path)));
  }

  makeHardLink(path: ByteString, existing: ByteString): Promise<void> {
    return guard(path, async () => linkSync(raw(existing), raw(path)));
  }

  async replaceLink(path: ByteString, target: ByteString, via: ByteString): Promise<void> {
    await guard(path, async () => {
      await fs.rm(raw(via), { force: true });
      await fs.symlink(raw(target), raw(via));
      await fs.rename(raw(via), raw(path));
    });
  }

  async readLink(path: ByteString): Promise<ByteString | undefined> {
    try {
      return bytes(await fs.readlink(raw(path), { encoding: 'buffer' }));
    } catch (error) {
      const code = (error as NodeJS.ErrnoException).code;
      if (code === 'ENOENT' || code === 'EINVAL') return undefined;
      throw fileError(error, showPath(path));
    }
  }

  rename(from: ByteString, to: ByteString): Promise<void> {
    return guard(from, () => fs.rename(raw(from), raw(to)));
  }

  async exists(path: ByteString): Promise<boolean> {
    try {
      await fs.lstat(raw(path));
      return true;
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT' || (error as NodeJS.ErrnoException).code === 'ENOTDIR')
        return false;
      throw fileError(error, showPath(path));
    }
  }

  remove(path: ByteString): Promise<void> {
    return guard(path, () => fs.rm(raw(path), { recursive: true, force: true }));
  }

  async freeBytes(path: ByteString): Promise<number> {
    const stat = await guard(path, () => fs.statfs(raw(path)));
    return stat.bavail * stat.bsize;
  }

  run(program: string, args: readonly string[], options: CommandOptions = {}): Promise<CommandResult> {
    return new Promise((resolve, reject) => {
      const child = spawn(program, [...args], {
        cwd: options.folder,
        env: { PATH: process.env.PATH, LANG: 'C.UTF-8', ...options.variables },
        stdio: ['pipe', 'pipe', 'pipe'],
        timeout: (options.timeoutSeconds ?? 3600) * 1000,
      });
      const output: Buffer[] = [];
      const errors: Buffer[] = [];
      child.stdout.on('data', (chunk: Buffer) => output.push(chunk));
      child.stderr.on('data', (chunk: Buffer) => errors.push(chunk));
      child.on('error', (error) =>
        reject(
          new EngineError(
            'command-failed',
            `${program} cannot be started: ${error.message}`,
            `Install ${program} on the server.`,
            { cause: error },
          ),
        ),
      );
      child.on('close', (code, signal) =>
        resolve({
          code: code ?? 1,
          output: Buffer.concat(output).toString('latin1'),
          errors: Buffer.concat(errors).toString() + (signal ? `ended by ${signal}` : ''),
        }),
      );
      child.stdin.on('error', () => undefined);
      child.stdin.end(options.input);
    });
  }
}

async function guard<T>(path: ByteString, act: () => Promise<T>, explain = fileError): Promise<T> {
  try {
    return await act();
  } catch (error) {
    throw explain(error, showPath(path));
  }
}
