import {
  closeSync,
  constants,
  fchmodSync,
  fchownSync,
  fstatSync,
  lchownSync,
  lstatSync,
  mkdirSync,
  openSync,
  readdirSync,
  readlinkSync,
  rmdirSync,
  unlinkSync,
} from 'node:fs';
import type { ByteString } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import type { Owner } from '../ports/server.js';

/**
 * Everything that is read, written or removed below the folder in which environments lie goes through here. A site may
 * exchange its files and folders for links at any moment, so that a path means nothing until it has been opened: what
 * was opened is held against the path that was asked for (`/proc/self/fd`, proc(5)), and what is done in a folder is
 * done in the one that was opened, whatever its name leads to by then.
 */

/** Flag that opens a path without what lies there (open(2)); Node does not name it. */
export const O_PATH = 0o10000000; // open(2); Node does not name it
const { O_CLOEXEC = 0o2000000 } = constants as unknown as { O_CLOEXEC?: number };
const NO_LINK = constants.O_NOFOLLOW | O_CLOEXEC;

const raw = (path: ByteString): Buffer => Buffer.from(path, 'latin1');
const bytes = (path: Buffer): ByteString => path.toString('latin1');

const codeOf = (error: unknown): string | undefined => (error as NodeJS.ErrnoException).code;

/** What an open file is called for other calls of this process. */
export const opened = (fd: number): string => `/proc/self/fd/${fd}`;

/** An entry of an open folder. */
export interface Entry {
  readonly folder: number;
  readonly name: ByteString;
  /** Its path by way of the open folder. */
  readonly path: Buffer;
}

const entryOf = (folder: number, name: ByteString): Entry => ({
  folder,
  name,
  path: Buffer.concat([Buffer.from(`${opened(folder)}/`), raw(name)]),
});

/** That something is not opened, and why. */
export const refused = (path: ByteString, what: string): EngineError =>
  new EngineError(
    'file-refused',
    `${showPath(path)} ${what}.`,
    'Look at the folder on the server: somebody exchanges what is in it. Run it again when it is as it should be.',
  );

const OUTSIDE = 'lies outside the folder of its server';

/** Whether an opened path is the one that was asked for, but for the links that an environment's layout is made of. */
export function isMeant(asked: ByteString, found: ByteString): boolean {
  if (asked === found) return true;
  const [environment, ...rest] = asked.split('/');
  const [there, kind, ...more] = found.split('/');
  if (environment !== there) return false;
  // `ROOT` leads to `trees/TREE` …
  if (kind === 'trees') return rest.slice(1).join('/') === more.slice(1).join('/') && more.length > 0;
  // … and a kept area in it to `keep/ROOT/AREA`: what lies below is called the same.
  if (kind !== 'keep' || more.length < 2) return false;
  const below = more.slice(2);
  return below.length < rest.length && rest.slice(rest.length - below.length).join('/') === below.join('/');
}

/** A folder in which environments lie, each in a folder of its own. */
export class Below {
  readonly #base: ByteString;
  #real: ByteString | undefined;

  /** @param base absolute; it and what lies above belong to whoever runs the server */
  constructor(base: ByteString) {
    this.#base = base.replace(/\/+$/, '');
  }

  /** Opens something that is there. Whoever opens it closes it. @param flags as open(2) takes them */
  open(path: ByteString, flags: number): number {
    const fd = openSync(raw(path), flags | NO_LINK);
    try {
      this.#mustBe(path, fd);
      return fd;
    } catch (error) {
      closeSync(fd);
      throw error;
    }
  }

  /** Opens a file for reading: neither a link, nor anything that makes one wait. */
  openFile(path: ByteString): number {
    const found = this.open(path, O_PATH);
    try {
      if (!fstatSync(found).isFile()) throw refused(path, 'is no file any more');
      return openSync(opened(found), constants.O_RDONLY | O_CLOEXEC);
    } finally {
      closeSync(found);
    }
  }

  /** Opens a folder; one that an environment's layout makes a link of is opened where it lies. */
  openFolder(path: ByteString, flags = constants.O_RDONLY): number {
    return this.open(`${path}/.`, flags | constants.O_DIRECTORY);
  }

  /** Where a folder lies by itself: what leads to it may lead elsewhere in the next moment. */
  placeOf(path: ByteString): ByteString {
    const folder = this.openFolder(path, O_PATH);
    try {
      const found = bytes(readlinkSync(opened(folder), { encoding: 'buffer' }));
      return path === this.#base ? path : this.#base + found.slice(this.#realBase().length);
    } finally {
      closeSync(folder);
    }
  }

  /** Does something with an entry of a folder, which is there itself or not. */
  at<T>(path: ByteString, act: (entry: Entry) => T): T {
    const cut = path.lastIndexOf('/');
    const name = path.slice(cut + 1);
    if (name === '' || name === '.' || name === '..') throw refused(path, 'names no entry of a folder');
    const folder = this.openFolder(path.slice(0, cut), O_PATH);
    let isGoingOn = false;
    try {
      const result = act(entryOf(folder, name));
      if (!(result instanceof Promise)) return result;
      isGoingOn = true;
      return result.finally(() => closeSync(folder)) as T;
    } finally {
      if (!isGoingOn) closeSync(folder);
    }
  }

  /** Does something in a folder at once, with many of its entries. @param act gets the open folder (see {@link inFolder}) */
  in<T>(path: ByteString, act: (folder: number) => T): T {
    const folder = this.openFolder(path, O_PATH);
    try {
      return act(folder);
    } finally {
      closeSync(folder);
    }
  }

  /** Makes a folder and those that it lies in. One that is there keeps its mode and owner unless they are given. */
  makeFolder(path: ByteString, mode?: number, owner?: Owner): void {
    if (path === this.#base || this.#base.startsWith(`${path}/`)) {
      mkdirSync(raw(path), { recursive: true });
      return;
    }
    if (!path.startsWith(`${this.#base}/`)) throw refused(path, OUTSIDE);
    let isNew = false;
    try {
      closeSync(this.openFolder(path));
    } catch (error) {
      if (codeOf(error) !== 'ENOENT') throw error;
      this.makeFolder(path.slice(0, path.lastIndexOf('/')));
      isNew = this.at(path, (entry) => made(entry, (mode ?? 0o755) & FOLDER_MODES));
    }
    if (mode === undefined && owner === undefined && !isNew) return;
    const fd = this.openFolder(path);
    try {
      if (owner) giveTo(owner, fd);
      if (mode !== undefined || isNew) fchmodSync(fd, (mode ?? 0o755) & FOLDER_MODES);
    } finally {
      closeSync(fd);
    }
  }

  /** Removes a file, a link, or a folder with what is in it; nothing there is no error. */
  remove(path: ByteString): void {
    try {
      this.at(path, removeEntry);
    } catch (error) {
      if (codeOf(error) !== 'ENOENT') throw error;
    }
  }

  /** @throws {EngineError} `file-refused` when something else was opened than was asked for */
  #mustBe(given: ByteString, fd: number): void {
    const path = given.endsWith('/.') ? given.slice(0, -2) : given;
    const found = bytes(readlinkSync(opened(fd), { encoding: 'buffer' }));
    if (path === this.#base) return;
    if (!path.startsWith(`${this.#base}/`)) throw refused(path, OUTSIDE);
    const real = this.#realBase();
    if (found.endsWith(' (deleted)') && !path.endsWith(' (deleted)'))
      throw Object.assign(new Error(`ENOENT: ${showPath(path)} is gone`), { code: 'ENOENT' });
    // Where to is nobody's business who may read this.
    if (!found.startsWith(`${real}/`)) throw refused(path, 'leads out of its folder');
    const asked = path.slice(this.#base.length + 1);
    if (!isMeant(asked, found.slice(real.length + 1))) throw refused(path, 'leads elsewhere');
  }

  #realBase(): ByteString {
    if (this.#real === undefined) {
      const fd = openSync(raw(this.#base === '' ? '/' : this.#base), O_PATH | constants.O_DIRECTORY | O_CLOEXEC);
      try {
        const found = bytes(readlinkSync(opened(fd), { encoding: 'buffer' }));
        this.#real = found === '/' ? '' : found;
      } finally {
        closeSync(fd);
      }
    }
    return this.#real;
  }
}

/** All but what makes programs run as somebody else, which means nothing for a folder. */
export const FOLDER_MODES = 0o3777;

function made({ path, folder }: Entry, mode: number): boolean {
  try {
    mkdirSync(path, { mode });
    const fd = openSync(path, constants.O_RDONLY | constants.O_DIRECTORY | NO_LINK);
    try {
      giveTo(ownerIn(folder), fd);
    } finally {
      closeSync(fd);
    }
    return true;
  } catch (error) {
    if (codeOf(error) === 'EEXIST') return false;
    throw error;
  }
}

/** Links are removed and never followed, whatever takes a folder's place meanwhile. */
function removeEntry({ path }: Entry): void {
  try {
    unlinkSync(path);
    return;
  } catch (error) {
    if (codeOf(error) === 'ENOENT') return;
    // What unlink(2) says of a folder: EISDIR here, EPERM elsewhere.
    if (!['EISDIR', 'EPERM'].includes(codeOf(error) ?? '') || !lstatSync(path).isDirectory()) throw error;
  }
  for (let tries = 1; ; tries++) {
    const folder = openSync(path, constants.O_RDONLY | constants.O_DIRECTORY | NO_LINK);
    try {
      for (const name of namesOf(folder)) removeEntry(entryOf(folder, name));
    } finally {
      closeSync(folder);
    }
    try {
      rmdirSync(path);
      return;
    } catch (error) {
      if (codeOf(error) === 'ENOENT') return;
      // Somebody puts files into it all the while.
      if (codeOf(error) !== 'ENOTEMPTY' || tries === MOST_TRIES) throw error;
    }
  }
}

/**
 * Where Tessarion is root, what it has just made belongs to whoever owns the folder that it lies in: a site's files are the
 * site's own user's.
 */
export function giveTo(owner: Owner, made: number): void {
  if (process.getuid?.() !== 0) return;
  const { uid, gid } = fstatSync(made);
  if (uid !== owner.uid || gid !== owner.gid) fchownSync(made, owner.uid, owner.gid);
}

/** The same for a link, which is never opened. */
export function giveLinkTo(owner: Owner, { path }: Entry): void {
  if (process.getuid?.() === 0) lchownSync(path, owner.uid, owner.gid);
}

/**
 * Who owns what lies in an open folder: who owns the folder. A folder of root's says nothing of who writes in it; the group
 * of one that passes its group on (setgid) holds all the same.
 */
export function ownerIn(folder: number): Owner {
  const { uid, gid, mode } = fstatSync(folder);
  return { uid, gid: uid !== 0 || (mode & SETGID) !== 0 ? gid : 0 };
}

const SETGID = 0o2000;

const MOST_TRIES = 5;

/** Names in an open folder. */
export const namesOf = (folder: number): ByteString[] =>
  (readdirSync(opened(folder), { encoding: 'buffer' }) as unknown as Buffer[]).map(bytes);

/** An entry of an open folder, by its name there. */
export const inFolder = entryOf;
