import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { type ByteString, type DataClass, type FileState, type Rewriter, toText } from '@tessarion/core';
import { EngineError } from '../errors.js';
import { type TreeNode, whileThere } from '../server/server-connection.js';
import type { Environment } from './environment.js';
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
