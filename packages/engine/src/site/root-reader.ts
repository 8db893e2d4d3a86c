import { createHash } from 'node:crypto';
import {
  type AreaRule,
  areaOf,
  type ByteString,
  type DataClass,
  type FileState,
  isRewrittenText,
  plain,
  type Rewriter,
  readSetting,
  SettingNotFoundError,
  writeSetting,
} from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import { showPath } from '../ports/paths.js';
import { type ServerConnection, type TreeNode, type WholeListing, whileStill } from '../ports/server.js';
import { areasOf, type Environment, fileSettings, keptFolder, layout } from './environment.js';

/** One entry of an environment's root, with its area and where its bytes really lie. */
export interface RootEntry {
  readonly path: ByteString;
  readonly area: AreaRule;
  readonly node: TreeNode;
  /** Absolute path; for kept areas this lies outside the tree. */
  readonly realPath: ByteString;
}

/**
 * Walks a root as its web server sees it: the tree, and the kept areas that are linked into it.
 *
 * @param classes entries of other classes are passed over
 */
export async function* walkRoot(
  environment: Environment,
  root: string,
  classes: ReadonlySet<DataClass>,
): AsyncGenerator<RootEntry> {
  const areas = areasOf(environment.profile);
  const rootPath = rootFolder(environment, root);
  for await (const node of environment.server.listTree(rootPath)) {
    const area = areaOf(areas, node.path);
    const folder = node.type === 'link' ? keptFolder(environment.folder, root, node.target) : undefined;
    if (folder !== undefined) {
      if (!classes.has(area.class)) continue;
      const found = await environment.server.nodeAt(folder);
      const own = found && { mode: found.mode, uid: found.uid, gid: found.gid };
      const there = { ...node, ...own, type: 'folder' as const, bytes: 0, target: undefined };
      yield { path: node.path, area, node: there, realPath: folder };
      for await (const inner of environment.server.listTree(folder)) {
        const path = `${node.path}/${inner.path}`;
        const own = areaOf(areas, path);
        if (inner.type === 'folder' || classes.has(own.class))
          yield { path, area: own, node: { ...inner, path }, realPath: `${folder}/${inner.path}` };
      }
    } else if (node.type === 'folder' || classes.has(area.class)) {
      yield { path: node.path, area, node, realPath: `${rootPath}/${node.path}` };
    }
  }
}

/** An entry of a root, without where its bytes lie: a kept area's folder is told instead, where it is in one. */
export interface WholeEntry {
  readonly path: ByteString;
  readonly area: AreaRule;
  readonly node: TreeNode;
  /** Absolute folder of the kept area, and the entry's path in it. */
  readonly kept: { readonly folder: ByteString; readonly path: ByteString } | undefined;
}

/** A root as it was listed at once. */
export interface WholeRoot {
  /** Files, links and special files, as {@link walkRoot} tells them, in no order. */
  readonly entries: readonly WholeEntry[];
  /** The folders that were listed for it, with their marks (see {@link WholeListing}). */
  readonly folders: ReadonlyMap<ByteString, string>;
}

/** Listings of one server that were made for one purpose: each folder is listed once. */
export class Listings {
  readonly #made = new Map<ByteString, Promise<WholeListing>>();

  constructor(readonly server: ServerConnection) {}

  of(folder: ByteString): Promise<WholeListing> {
    const made = this.#made.get(folder) ?? this.server.listWhole(folder);
    this.#made.set(folder, made);
    return made;
  }

  /** Whether some folders have the marks still that they had. What cannot be listed any more has not. */
  async areMarked(folders: Iterable<readonly [folder: ByteString, mark: string]>): Promise<boolean> {
    const found = await Promise.all(
      [...folders].map(([folder, mark]) =>
        this.of(folder).then(
          (listing) => listing.mark === mark,
          () => false,
        ),
      ),
    );
    return !found.includes(false);
  }
}

/** Lists a root whole. @param classes entries of other classes are passed over */
export async function wholeRoot(
  environment: Environment,
  root: string,
  classes: ReadonlySet<DataClass>,
  listings = new Listings(environment.server),
): Promise<WholeRoot> {
  const { folder, profile } = environment;
  const areas = areasOf(profile);
  const entries: WholeEntry[] = [];
  const folders = new Map<ByteString, string>();
  const list = async (path: ByteString): Promise<readonly TreeNode[]> => {
    const { mark, nodes } = await listings.of(path);
    folders.set(path, mark);
    return nodes;
  };
  for (const node of await list(rootFolder(environment, root))) {
    if (node.type === 'folder') continue;
    const area = areaOf(areas, node.path);
    const kept = node.type === 'link' ? keptFolder(folder, root, node.target) : undefined;
    if (!classes.has(area.class)) continue;
    if (kept === undefined) {
      entries.push({ path: node.path, area, node, kept: undefined });
      continue;
    }
    for (const inner of await list(kept)) {
      const path = `${node.path}/${inner.path}`;
      const own = areaOf(areas, path);
      if (inner.type !== 'folder' && classes.has(own.class))
        entries.push({ path, area: own, node: inner, kept: { folder: kept, path: inner.path } });
    }
  }
  return { entries, folders };
}

/** Where a root leads, as its web server reaches it. */
export const rootFolder = ({ place, folder }: Environment, root: string): ByteString =>
  place.roots.find((one) => one.name === root)?.path ?? layout.rootLink(folder, root);

/** Where the bytes of an entry lie. */
export const realPathOf = (environment: Environment, root: string, { path, kept }: WholeEntry): ByteString =>
  kept ? `${kept.folder}/${kept.path}` : `${rootFolder(environment, root)}/${path}`;

/** How a root's files turn into canonical content and back. */
export class FileForm {
  readonly #settings: ReturnType<typeof fileSettings>;
  /** Addresses and paths that became tokens, by file. */
  readonly rewritten = new Map<ByteString, number>();

  constructor(
    readonly environment: Environment,
    readonly rewriter: Rewriter,
  ) {
    this.#settings = fileSettings(environment.profile);
  }

  /** True for files whose bytes differ between environments that agree. */
  isTranslated(path: ByteString, area: AreaRule): boolean {
    return isRewrittenText(area, path) || this.#settings.some((setting) => setting.in.file === path);
  }

  /** @throws {EngineError} when a settings key is missing or stands there twice */
  canonicalise(path: ByteString, area: AreaRule, content: Buffer): Buffer {
    if (!this.isTranslated(path, area)) return content;
    let text = content.toString('latin1');
    if (isRewrittenText(area, path)) {
      const result = this.rewriter.canonicalise(text);
      this.rewritten.set(path, result.rewritten);
      text = result.value;
    }
    for (const setting of this.#settings.filter((one) => one.in.file === path))
      text = inFile(path, () => writeSetting(text, setting.in.format, setting.in.key, `~tsr.s.${setting.name}~`));
    return Buffer.from(text, 'latin1');
  }

  /** The canonical content of a file, in pieces of at most 16 MiB, so that memory does not grow with files. */
  async *canonicalPieces(path: ByteString, area: AreaRule, realPath: ByteString): AsyncGenerator<Buffer> {
    const { server } = this.environment;
    if (this.isTranslated(path, area)) yield* pieces(this.canonicalise(path, area, await server.readFile(realPath)));
    else yield* server.readPieces(realPath, PIECE_BYTES);
  }

  /**
   * Reads a file in canonical form.
   *
   * @param keep takes each piece and returns its hash
   */
  async read(
    path: ByteString,
    area: AreaRule,
    mode: number,
    realPath: ByteString,
    keep: (piece: Buffer) => string | Promise<string>,
  ): Promise<Extract<FileState, { type: 'file' }>> {
    return whileStill(() => this.#readOnce(path, area, mode, realPath, keep));
  }

  async #readOnce(
    path: ByteString,
    area: AreaRule,
    mode: number,
    realPath: ByteString,
    keep: (piece: Buffer) => string | Promise<string>,
  ): Promise<Extract<FileState, { type: 'file' }>> {
    const hashes: string[] = [];
    const whole: Buffer[] = [];
    let size = 0;
    const isTranslated = this.isTranslated(path, area);
    for await (const piece of this.canonicalPieces(path, area, realPath)) {
      hashes.push(await keep(piece));
      size += piece.length;
      if (isTranslated) whole.push(piece);
    }
    const compared = isTranslated ? this.plainHash(path, area, Buffer.concat(whole)) : {};
    return { type: 'file', mode, size, pieces: hashes, ...compared };
  }

  /** What comparison goes by for a translated file: its content without spellings of addresses and quotes of settings. */
  plainHash(path: ByteString, area: AreaRule, canonical: Buffer): { plain?: string } {
    if (!this.isTranslated(path, area)) return {};
    const text = plain(canonical.toString('latin1')).replace(/(["'])(~tsr\.s\.[a-z0-9_-]+~)\1/g, '$2');
    return { plain: hashOf(Buffer.from(text, 'latin1')) };
  }

  /** @throws {EngineError} when a settings key is missing or has no value here */
  materialise(path: ByteString, area: AreaRule, content: Buffer): Buffer {
    if (!this.isTranslated(path, area)) return content;
    let text = content.toString('latin1');
    for (const setting of this.#settings.filter((one) => one.in.file === path)) {
      const value = this.environment.settings.get(setting.name);
      if (value === undefined)
        throw new EngineError(
          'file-refused',
          `${this.environment.path} has no value for the setting "${setting.name}".`,
          'Give the value, or correct the profile.',
        );
      text = inFile(path, () => writeSetting(text, setting.in.format, setting.in.key, value));
    }
    if (isRewrittenText(area, path)) text = this.rewriter.materialise(text);
    return Buffer.from(text, 'latin1');
  }

  /** The values that an environment's settings files hold now. */
  readSettings(path: ByteString, content: Buffer): Map<string, string> {
    const text = content.toString('latin1');
    return new Map(
      this.#settings
        .filter((one) => one.in.file === path)
        .map((one) => [one.name, inFile(path, () => readSetting(text, one.in.format, one.in.key))]),
    );
  }
}

function inFile<T>(path: ByteString, act: () => T): T {
  try {
    return act();
  } catch (error) {
    if (!(error instanceof SettingNotFoundError)) throw error;
    throw new EngineError(
      'file-refused',
      `${showPath(path)}: ${error.message}`,
      'Correct the file, or the setting in the profile.',
      { cause: error },
    );
  }
}

/** Files are read and stored in pieces of this size; most are one. */
export const PIECE_BYTES = 16 * 1024 * 1024;

/** Cuts content into the pieces that are stored; most files are one. */
export function pieces(content: Buffer): Buffer[] {
  if (content.length <= PIECE_BYTES) return [content];
  const result: Buffer[] = [];
  for (let at = 0; at < content.length; at += PIECE_BYTES) result.push(content.subarray(at, at + PIECE_BYTES));
  return result;
}

/** SHA-256 of a content in hexadecimal digits: what pieces are stored under. */
export const hashOf = (content: Uint8Array): string => createHash('sha256').update(content).digest('hex');

/**
 * Where a link leads, in canonical form.
 *
 * @throws {EngineError} for links that leave the root, and for absolute ones unless the profile rewrites them
 */
export function canonicalLink(
  environment: Environment,
  rewriter: Rewriter,
  path: ByteString,
  target: ByteString,
): ByteString {
  if (!target.startsWith('/')) {
    if (staysInside(path, target)) return target;
  } else if (environment.profile?.links === 'rewrite') {
    const result = rewriter.canonicalise(target);
    if (result.value.startsWith('~tsr.r.')) return result.value;
  }
  throw new EngineError(
    'file-refused',
    `The link ${showPath(path)} leads to ${showPath(target)}, which a copy may not share with ${environment.path}.`,
    'Make it a link relative to the root, let the profile say "links: rewrite", or leave the path out.',
  );
}

/**
 * Whether a relative link, followed from where it stands, stays below the root. It may go up at its beginning only: what it
 * names may be a link itself, and what lies above that is anybody's guess.
 */
function staysInside(path: ByteString, target: ByteString): boolean {
  const parts = target.split('/').filter((part) => part !== '.' && part !== '');
  const up = parts.findIndex((part) => part !== '..');
  const above = up === -1 ? parts.length : up;
  return above < path.split('/').length && !parts.slice(above).includes('..');
}

/** How long work without waiting may keep the event loop from timers and connections. */
const TURN_MS = 20;

/** Runs a job for each entry, several at once, and stops at the first failure. */
export async function eachOf<T>(
  entries: AsyncIterable<T> | Iterable<T>,
  atOnce: number,
  job: (entry: T) => Promise<void>,
): Promise<void> {
  const running = new Set<Promise<void>>();
  let failure: unknown;
  let lastTurn = performance.now();
  for await (const entry of entries) {
    if (failure) break;
    if (performance.now() - lastTurn > TURN_MS) {
      await new Promise((resolve) => setImmediate(resolve));
      lastTurn = performance.now();
    }
    const task: Promise<void> = job(entry)
      .catch((error: unknown) => {
        failure ??= error;
      })
      .finally(() => running.delete(task));
    running.add(task);
    if (running.size >= atOnce) await Promise.race(running);
  }
  await Promise.all(running);
  if (failure) throw failure;
}
