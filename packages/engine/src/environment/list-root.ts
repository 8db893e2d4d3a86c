import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { areaOf, type ByteString, type DataClass, type FileState, type Rewriter, toText } from '@tessarion/core';
import { EngineError } from '../errors.js';
import { type TreeNode, whileThere } from '../server/server-connection.js';
import { areasOf, type Environment, layout } from './environment.js';
import { canonicalLink, eachOf, FileForm, hashOf, type RootEntry, walkRoot } from './root-reader.js';

export const AUTHORED: ReadonlySet<DataClass> = new Set(['authored']);
const YOUNG_NS = 2_000_000_000n;

/**
 * Remembers the content hashes of files by their identity (size, mtime, ctime, inode), so that an unchanged file is
 * not read again. A file younger than two seconds is not remembered: it may change once more within one clock tick.
 */
export class HashMemory {
  #known = new Map<string, { identity: string; state: FileState }>();
  readonly #file: string;
  #hasNews = false;

  private constructor(file: string) {
    this.#file = file;
  }

  static async open(file: string): Promise<HashMemory> {
    const memory = new HashMemory(file);
    try {
      memory.#known = new Map(
        JSON.parse(await fs.readFile(file, 'utf8')) as [string, { identity: string; state: FileState }][],
      );
    } catch {
      // A missing or broken memory only costs reading the files again.
    }
    return memory;
  }

  recall(path: string, identity: string): FileState | undefined {
    const known = this.#known.get(path);
    return known?.identity === identity ? known.state : undefined;
  }

  remember(path: string, identity: string, changedAtNs: bigint, state: FileState): void {
    if (BigInt(Date.now()) * 1_000_000n - changedAtNs <= YOUNG_NS) return;
    this.#known.set(path, { identity, state });
    this.#hasNews = true;
  }

  /** The same content under a new identity: what changed is known, and is not the content. */
  transfer(path: string, from: string, to: string): void {
    const known = this.recall(path, from);
    if (!known || from === to) return;
    this.#known.set(path, { identity: to, state: known });
    this.#hasNews = true;
  }

  async save(): Promise<void> {
    if (!this.#hasNews) return;
    // Two comparisons may save at once; each has a temporary name of its own, and the last one counts.
    const temporary = `${this.#file}.${randomUUID()}.new`;
    await fs.writeFile(temporary, JSON.stringify([...this.#known]), { mode: 0o600 });
    await fs.rename(temporary, this.#file);
  }
}

/** A listed file, with where its bytes lie. */
export interface ListedFile {
  readonly state: FileState;
  readonly realPath: ByteString;
  readonly identity: string;
}

/** The files and links of a root whose areas are of some classes (authored by itself), by path, in canonical form. */
export async function listFiles(
  environment: Environment,
  root: string,
  rewriter: Rewriter,
  memory: HashMemory | undefined,
  version: string,
  classes: ReadonlySet<DataClass> = AUTHORED,
): Promise<Map<ByteString, ListedFile>> {
  const files = new Map<ByteString, ListedFile>();
  const form = new FileForm(environment, rewriter);
  const identityOf = (node: TreeNode): string => `${version} ${node.identity} ${node.mode}`;
  async function* unknown(): AsyncGenerator<RootEntry> {
    for await (const entry of walkRoot(environment, root, classes)) {
      const { path, node, area, realPath } = entry;
      if (node.type === 'folder' || !classes.has(area.class)) continue;
      if (node.type === 'special')
        throw new EngineError(
          'file-refused',
          `${toText(path)} in ${environment.path} is neither file, folder nor link.`,
          'Remove it, or put it into a local area.',
        );
      const { identity } = node;
      if (node.type === 'link') {
        const target = canonicalLink(environment, rewriter, path, node.target as ByteString);
        files.set(path, { state: { type: 'link', target }, realPath, identity });
        continue;
      }
      const known = memory?.recall(realPath, identityOf(node));
      if (known) files.set(path, { state: known, realPath, identity });
      else yield entry;
    }
  }
  await eachOf(unknown(), 8, ({ path, node, area, realPath }) =>
    whileThere(async () => {
      const state = await form.read(path, area, node.mode, realPath, hashOf);
      memory?.remember(realPath, identityOf(node), node.changedAtNs, state);
      files.set(path, { state, realPath, identity: node.identity });
    }),
  );
  return files;
}

/** What stands at one path of a root now, in canonical form. */
export async function readState(
  environment: Environment,
  root: string,
  path: ByteString,
  rewriter: Rewriter,
): Promise<FileState> {
  const { server, profile, place, folder } = environment;
  const realPath = `${place.roots.find((one) => one.name === root)?.path ?? layout.rootLink(folder, root)}/${path}`;
  const node = await server.nodeAt(realPath);
  if (!node || node.type === 'folder' || node.type === 'special') return { type: 'absent' };
  if (node.type === 'link')
    return { type: 'link', target: canonicalLink(environment, rewriter, path, node.target as ByteString) };
  const form = new FileForm(environment, rewriter);
  return form.read(path, areaOf(areasOf(profile), path), node.mode, realPath, hashOf);
}

/**
 * Does something that gives files of a root second names or takes them away, which changes the time of change and so
 * their identity, and lets a memory know them by the new one. A write in between shows in size or time of writing.
 */
export async function keepingIdentities<T>(
  environment: Environment,
  root: string,
  memory: HashMemory,
  version: string,
  act: () => Promise<T>,
): Promise<T> {
  const before = new Map<string, string>();
  for await (const { node, realPath } of walkRoot(environment, root, AUTHORED))
    if (node.type === 'file') before.set(realPath, `${version} ${node.identity} ${node.mode}`);
  const result = await act();
  const apartFromChange = (identity: string): string => identity.replace(/\.\d+\.(\d+ )/, '.$1');
  for await (const { node, realPath } of walkRoot(environment, root, AUTHORED)) {
    const [former, now] = [before.get(realPath), `${version} ${node.identity} ${node.mode}`];
    if (former !== undefined && apartFromChange(former) === apartFromChange(now))
      memory.transfer(realPath, former, now);
  }
  return result;
}
