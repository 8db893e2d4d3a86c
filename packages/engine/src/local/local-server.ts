import {
  type BigIntStats,
  closeSync,
  constants,
  copyFileSync,
  existsSync,
  fchmodSync,
  fstatSync,
  futimesSync,
  linkSync,
  lstatSync,
  openSync,
  readlinkSync,
  readSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeSync,
} from 'node:fs';
import * as fs from 'node:fs/promises';
import { addTo, type ByteString } from '@tessarion/core';
import { EngineError, fileChanged, fileError, readError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import {
  type Acl,
  type CommandOptions,
  type CommandResult,
  type CopiedFile,
  type CopyOrder,
  type FileContent,
  type FileMake,
  type Owner,
  type ServerConnection,
  type ServerFacts,
  type ServerReach,
  type TreeNode,
  type WholeListing,
  whileStill,
} from '../ports/server.js';
import { readAcls, writeAcls } from './acl.js';
import { Below, type Entry, giveLinkTo, giveTo, inFolder, namesOf, O_PATH, opened, ownerIn } from './below.js';
import { FIND, FoundListing, listingOf, modeOf, PLAIN } from './found.js';
import { runApart } from './run-apart.js';
import { runTool } from './tool.js';

const raw = (path: ByteString): Buffer => Buffer.from(path, 'latin1');
const bytes = (path: Buffer): ByteString => path.toString('latin1');
const codeOf = (error: unknown): string | undefined => (error as NodeJS.ErrnoException).code;

/** Files that one program is given at once. */
const MOST_AT_ONCE = 100;

const NEW_FILE = constants.O_WRONLY | constants.O_CREAT | constants.O_EXCL | constants.O_NOFOLLOW;

/** Opens a new file, or returns undefined when there is one already. */
function tryCreate(path: Buffer, mode: number): number | undefined {
  try {
    return openSync(path, NEW_FILE, mode);
  } catch (error) {
    if (codeOf(error) === 'EEXIST') return undefined;
    throw error;
  }
}

/** Size, time of writing, time of change and inode, as `find` writes them, so that a listing need not be spelled anew. */
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

/** Fills a new file of an open folder, and removes it again when that fails. @returns its identity */
async function fill(
  { path }: Entry,
  file: number,
  content: FileContent,
  mode: number,
  { owner, modified }: FileMake & { readonly owner: Owner },
): Promise<string> {
  const write = (piece: Uint8Array): void => {
    for (let at = 0; at < piece.length; ) at += writeSync(file, piece, at);
  };
  try {
    if (content instanceof Uint8Array) write(content);
    else for await (const piece of content) write(piece);
    giveTo(owner, file);
    if (modified !== undefined) futimesSync(file, modified, modified);
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

/** So many entries are looked at one by one in less time than a program takes to start. */
const FEW_ENTRIES = 120;

/** What stands at an entry of an open folder. */
function nodeOf({ path: place }: Entry, path: ByteString): TreeNode | undefined {
  const stat = lstatSync(place, { bigint: true, throwIfNoEntry: false });
  if (!stat) return undefined;
  const type = stat.isFile() ? 'file' : stat.isDirectory() ? 'folder' : stat.isSymbolicLink() ? 'link' : 'special';
  return {
    path,
    type,
    mode: modeOf(Number(stat.mode), type),
    uid: Number(stat.uid),
    gid: Number(stat.gid),
    bytes: Number(stat.size),
    identity: identity(stat),
    file: `${stat.ino}`,
    written: `${stat.size} ${seconds(stat.mtimeNs)}`,
    changedAtNs: stat.ctimeNs,
    modified: Number(seconds(stat.mtimeNs)),
    target: type === 'link' ? bytes(readlinkSync(place, { encoding: 'buffer' })) : undefined,
  };
}

/** Whom an entry belongs to; where there is none yet, who owns what lies in its folder. */
const ownerOf = (entry: Entry): Owner => lstatSync(entry.path, { throwIfNoEntry: false }) ?? ownerIn(entry.folder);

/** The same for what may go away while it is looked at. */
function nodeIfThere(entry: Entry, path: ByteString): TreeNode | undefined {
  try {
    return nodeOf(entry, path);
  } catch (error) {
    if (codeOf(error) === 'ENOENT') return undefined;
    throw error;
  }
}

/**
 * The machine that Tessarion itself runs on, as far as one folder in which environments lie (see {@link Below}).
 *
 * Files are read and written without the thread pool: for the many small files of a site its hand-overs cost about ten
 * times what the work does. Those who walk many files let the event loop have its turn in between.
 */
export class LocalServer implements ServerConnection {
  readonly #below: Below;
  readonly reach: ServerReach;
  readonly carrier = undefined;
  readonly isFar = false;
  readonly #base: ByteString;

  /** @param base folder that holds the folders of environments; nothing outside is touched */
  constructor(base: ByteString) {
    this.reach = { kind: 'local', base };
    this.#base = base;
    this.#below = new Below(base);
  }

  async about(programs: readonly string[]): Promise<ServerFacts> {
    const places = (process.env.PATH ?? '').split(':');
    const isThere = (program: string): boolean => places.some((place) => existsSync(`${place}/${program}`));
    return {
      isRoot: process.getuid?.() === 0,
      behindMs: 0,
      missing: programs.filter((program) => !isThere(program)),
    };
  }

  async *listTree(folder: ByteString): AsyncGenerator<TreeNode> {
    yield* this.#list(folder, '');
  }

  async listWhole(folder: ByteString): Promise<WholeListing> {
    return (await this.#listFew(folder)) ?? this.#find(folder);
  }

  /** Everything below a folder where that is little: to start a program costs more than to look at it. */
  async #listFew(folder: ByteString): Promise<WholeListing | undefined> {
    const nodes: TreeNode[] = [];
    const place = await guard(folder, async () => this.#below.placeOf(folder));
    for await (const node of this.#list(place, '', FEW_ENTRIES)) if (nodes.push(node) > FEW_ENTRIES) return undefined;
    return listingOf(nodes);
  }

  async #find(folder: ByteString): Promise<WholeListing> {
    return guard(folder, async () => {
      const fd = this.#below.openFolder(folder);
      try {
        // In the folder that was opened, by whatever name it is reached by now.
        const found = await runTool('find', ['.', ...FIND], { cwd: opened(fd) });
        const isGone = (line: string): boolean => line === '' || line.endsWith(': No such file or directory');
        if (found.code === 0 || (found.output !== '' && found.errors.split('\n').every(isGone)))
          return new FoundListing(found.output);
      } finally {
        closeSync(fd);
      }
      // What `find` may not read is refused when it is listed one by one.
      const nodes: TreeNode[] = [];
      for await (const node of this.listTree(folder)) nodes.push(node);
      return listingOf(nodes);
    });
  }

  async *listFolder(folder: ByteString): AsyncGenerator<TreeNode> {
    if (!(await this.exists(folder))) return;
    for (const node of await this.#read(folder, '')) yield node;
  }

  async *#list(folder: ByteString, below: ByteString, most = Number.POSITIVE_INFINITY): AsyncGenerator<TreeNode> {
    for (const node of await this.#read(folder, below, most)) {
      yield node;
      if (node.type === 'folder') yield* this.#list(folder, node.path, most);
    }
  }

  /**
   * @param below a folder that was there a moment ago, and may be gone or another thing by now
   * @param most whoever wants no more entries gets one more of a folder that has them
   */
  async #read(folder: ByteString, below: ByteString, most = Number.POSITIVE_INFINITY): Promise<TreeNode[]> {
    const here = below === '' ? folder : `${folder}/${below}`;
    return guard(here, async () => {
      let fd: number;
      try {
        fd = this.#below.openFolder(here);
      } catch (error) {
        if (below !== '' && codeOf(error) === 'ENOENT') return [];
        throw error;
      }
      try {
        return namesOf(fd)
          .sort()
          .slice(0, most + 1)
          .map((name) => nodeIfThere(inFolder(fd, name), below === '' ? name : `${below}/${name}`))
          .filter((node) => node !== undefined);
      } finally {
        closeSync(fd);
      }
    });
  }

  async readFile(path: ByteString, into?: Buffer): Promise<Buffer> {
    const read = (): Promise<Buffer> =>
      whileStill(async () => {
        const file = this.#below.openFile(path);
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
    const file = await guard(path, async () => this.#below.openFile(path), readError);
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

  async writeFile(path: ByteString, content: FileContent, mode: number, more: FileMake = {}): Promise<string> {
    return guard(path, () =>
      this.#below.at(path, async (entry) => {
        const plain = mode & PLAIN;
        const made = (owner: Owner) => ({ ...more, owner });
        const file = tryCreate(entry.path, plain);
        if (file !== undefined)
          return listed(
            entry,
            await fill(entry, file, content, plain, made(more.owner ?? ownerIn(entry.folder))),
            more.acl,
          );
        const gives = made(more.owner ?? ownerOf(entry));
        const temporary = inFolder(entry.folder, `${entry.name}.tsr-new`);
        rmSync(temporary.path, { force: true });
        const written = await fill(temporary, openSync(temporary.path, NEW_FILE, plain), content, plain, gives);
        await listed(temporary, written, more.acl);
        renameSync(temporary.path, entry.path);
        // A new name is a change of its own.
        return identity(lstatSync(entry.path, { bigint: true }));
      }),
    );
  }

  async nodeAt(path: ByteString): Promise<TreeNode | undefined> {
    return guard(path, async () => ifThere(() => this.#below.at(path, (entry) => nodeIfThere(entry, path))));
  }

  async identityOf(path: ByteString): Promise<string | undefined> {
    return (await this.nodeAt(path))?.identity;
  }

  makeFolder(path: ByteString, mode?: number, owner?: Owner): Promise<void> {
    return guard(path, async () => this.#below.makeFolder(path, mode, owner));
  }

  makeLink(path: ByteString, target: ByteString, owner?: Owner): Promise<void> {
    return guard(path, async () =>
      this.#below.at(path, (entry) => {
        symlinkSync(raw(target), entry.path);
        giveLinkTo(owner ?? ownerIn(entry.folder), entry);
      }),
    );
  }

  /** link(2) takes a link for itself and does not follow it. */
  makeHardLink(path: ByteString, existing: ByteString): Promise<void> {
    return guard(path, async () =>
      this.#below.at(existing, (from) => this.#below.at(path, (to) => linkSync(from.path, to.path))),
    );
  }

  async linkTree(to: ByteString, from: ByteString, paths: readonly ByteString[]): Promise<void> {
    let lastTurn = performance.now();
    for (const [folder, names] of byFolder(paths)) {
      for (let at = 0; at < names.length; at += MOST_AT_ONCE)
        await guard(`${from}${folder}`, async () =>
          this.#below.in(`${to}${folder}`, (made) =>
            ifThere(() =>
              this.#below.in(`${from}${folder}`, (found) => {
                for (const name of names.slice(at, at + MOST_AT_ONCE))
                  ifThere(() => linkSync(inFolder(found, name).path, inFolder(made, name).path));
              }),
            ),
          ),
        );
      if (performance.now() - lastTurn <= TURN_MS) continue;
      await new Promise((resolve) => setImmediate(resolve));
      lastTurn = performance.now();
    }
  }

  async copyMany(orders: readonly CopyOrder[], lookFor: readonly ByteString[]) {
    const made: (CopiedFile | undefined)[] = [];
    for (const { from, to, mode, ...more } of orders) {
      const content = await this.readFile(from).catch((error: unknown) => {
        if (error instanceof EngineError && error.code === 'file-gone') return undefined;
        throw error;
      });
      if (content === undefined) made.push(undefined);
      else {
        const holds = lookFor.flatMap((one, i) => (content.includes(raw(one)) ? [i] : []));
        made.push({ identity: await this.writeFile(to, content, mode, more), holds });
      }
    }
    return made;
  }

  copyFile(path: ByteString, existing: ByteString): Promise<void> {
    return guard(existing, async () => {
      const file = this.#below.openFile(existing);
      try {
        const stat = fstatSync(file);
        this.#below.at(path, (entry) => {
          // Where the file system can, the two share their blocks until one is written to.
          copyFileSync(opened(file), entry.path, constants.COPYFILE_EXCL | constants.COPYFILE_FICLONE);
          const made = openSync(entry.path, constants.O_RDONLY | constants.O_NOFOLLOW);
          try {
            giveTo(stat, made);
            fchmodSync(made, stat.mode & PLAIN);
            futimesSync(made, stat.atimeMs / 1000, stat.mtimeMs / 1000);
          } finally {
            closeSync(made);
          }
        });
      } finally {
        closeSync(file);
      }
    });
  }

  replaceLink(path: ByteString, target: ByteString, via: ByteString, owner?: Owner): Promise<void> {
    return guard(path, async () =>
      this.#below.at(via, (temporary) => {
        rmSync(temporary.path, { force: true });
        symlinkSync(raw(target), temporary.path);
        this.#below.at(path, (entry) => {
          giveLinkTo(owner ?? ownerOf(entry), temporary);
          renameSync(temporary.path, entry.path);
        });
      }),
    );
  }

  async readLink(path: ByteString): Promise<ByteString | undefined> {
    return (await this.nodeAt(path))?.target;
  }

  rename(from: ByteString, to: ByteString): Promise<void> {
    return guard(from, async () =>
      this.#below.at(from, (old) => this.#below.at(to, (now) => renameSync(old.path, now.path))),
    );
  }

  async exists(path: ByteString): Promise<boolean> {
    return (await this.nodeAt(path)) !== undefined;
  }

  async isFolder(path: ByteString): Promise<boolean> {
    return guard(path, async () => {
      const fd = ifThere(() => this.#below.openFolder(path));
      if (fd !== undefined) closeSync(fd);
      return fd !== undefined;
    });
  }

  async readAcls(folder: ByteString, paths?: readonly ByteString[]): Promise<ReadonlyMap<ByteString, Acl>> {
    return guard(folder, async () => {
      const fd = this.#below.openFolder(folder);
      try {
        return await readAcls(fd, paths);
      } finally {
        closeSync(fd);
      }
    });
  }

  async writeAcls(acls: ReadonlyMap<ByteString, Acl>): Promise<void> {
    const all = [...acls];
    for (let at = 0; at < all.length; at += MOST_AT_ONCE) {
      const files: { file: number; acl: Acl }[] = [];
      try {
        for (const [path, acl] of all.slice(at, at + MOST_AT_ONCE)) {
          const file = await guard(path, async () => ifThere(() => this.#below.open(path, O_PATH)));
          if (file !== undefined) files.push({ file, acl });
        }
        if (files.length > 0) await writeAcls(files);
      } finally {
        for (const { file } of files) closeSync(file);
      }
    }
  }

  remove(path: ByteString): Promise<void> {
    return guard(path, async () => this.#below.remove(path));
  }

  flush(folder: ByteString): Promise<void> {
    return guard(folder, async () => {
      const fd = this.#below.openFolder(folder);
      try {
        // Node has no syncfs; the program takes the open folder, whatever its name leads to by now.
        const { code, errors } = await runTool('sync', ['--file-system', opened(3)], { files: [fd] });
        if (code !== 0) throw new Error(`sync ended with ${code}: ${errors.trim().slice(-500)}`);
      } finally {
        closeSync(fd);
      }
    });
  }

  async freeBytes(path: ByteString): Promise<number> {
    const stat = await guard(path, () => fs.statfs(raw(path)));
    return stat.bavail * stat.bsize;
  }

  async run(program: string, args: readonly string[], options: CommandOptions): Promise<CommandResult> {
    return guard(options.environment, async () => {
      const fd = this.#below.openFolder(options.environment);
      const { uid, gid } = fstatSync(fd);
      closeSync(fd);
      return runApart(program, args, {
        folder: showPath(options.folder),
        own: showPath(options.environment),
        base: showPath(this.#base),
        hidden: options.hidden,
        uid,
        gid,
        timeoutSeconds: options.timeoutSeconds,
      });
    });
  }
}

/** How long work without waiting may keep the event loop from timers and connections. */
const TURN_MS = 20;

/** Names of entries by the folders that they lie in, each with a slash before it; none for what lies at the top. */
function byFolder(paths: readonly ByteString[]): Map<ByteString, ByteString[]> {
  const folders = new Map<ByteString, ByteString[]>();
  for (const path of paths) {
    const cut = path.lastIndexOf('/');
    addTo(folders, cut === -1 ? '' : `/${path.slice(0, cut)}`, path.slice(cut + 1));
  }
  return folders;
}

/** Gives a file that was just written its access control list. @returns its identity */
async function listed({ path }: Entry, made: string, acl: Acl | undefined): Promise<string> {
  if (acl === undefined) return made;
  const file = openSync(path, constants.O_RDONLY | constants.O_NOFOLLOW);
  try {
    await writeAcls([{ file, acl }]);
    return identity(fstatSync(file, { bigint: true }));
  } finally {
    closeSync(file);
  }
}

async function guard<T>(path: ByteString, act: () => Promise<T>, explain = fileError): Promise<T> {
  try {
    return await act();
  } catch (error) {
    throw explain(error, showPath(path));
  }
}

/** @returns undefined where what it goes by is not there */
function ifThere<T>(act: () => T): T | undefined {
  try {
    return act();
  } catch (error) {
    if (['ENOENT', 'ENOTDIR'].includes(codeOf(error) ?? '')) return undefined;
    throw error;
  }
}
