import { rm } from 'node:fs/promises';
import { areaOf, type ByteString, type DataClass, type FileState, type Rewriter, toText } from '@tessarion/core';
import { z } from 'zod';
import { EngineError } from '../ports/errors.js';
import { type TreeNode, whileThere } from '../ports/server.js';
import type { SealedFile } from '../store/sealed-file.js';
import { areasOf, type Environment } from './environment.js';
import {
  canonicalLink,
  eachOf,
  FileForm,
  hashOf,
  type Listings,
  realPathOf,
  rootFolder,
  type WholeEntry,
  type WholeRoot,
  wholeRoot,
} from './root-reader.js';

/** The only class that goes up. */
export const AUTHORED: ReadonlySet<DataClass> = new Set(['authored']);
/** A file that was changed no longer ago may change once more without another time of change. */
export const YOUNG_NS = 2_000_000_000n;

/** Whether a file was changed so lately that it may change once more without another time of change. */
const isYoung = (changedAtNs: bigint): boolean => BigInt(Date.now()) * 1_000_000n - changedAtNs <= YOUNG_NS;

interface KnownFile {
  readonly identity: string;
  readonly mode: number;
  readonly state: FileState;
}

const MemoryFile = z.object({
  format: z.literal('tessarion-hashes/1'),
  version: z.string(),
  roots: z.record(z.string(), z.array(z.tuple([z.string(), z.custom<KnownFile>()]))),
});

/**
 * Remembers the content hashes of files by their identity, so that an unchanged file is not read again. A file younger than two seconds is not remembered: it may change once more within one clock tick.
 */
export class HashMemory {
  /** Memories that were opened lately, the last one last. What one of them knows is true whoever asks. */
  static readonly #open = new Map<string, HashMemory>();
  #version = '';
  readonly #roots = new Map<string, Map<ByteString, KnownFile>>();
  #hasNews = false;
  #soon: NodeJS.Timeout | undefined;
  #failure: unknown;
  #isGone = false;

  private constructor(readonly file: SealedFile) {}

  static async open(file: SealedFile): Promise<HashMemory> {
    const open = HashMemory.#open.get(file.path) ?? new HashMemory(file);
    if (!HashMemory.#open.delete(file.path)) {
      // One that is missing or was changed only costs reading the environment's files again.
      const { success, data } = MemoryFile.safeParse(await file.read());
      open.#version = success ? data.version : '';
      for (const [root, files] of Object.entries(success ? data.roots : {})) open.#roots.set(root, new Map(files));
    }
    HashMemory.#open.set(file.path, open);
    let files = 0;
    for (const memory of [...HashMemory.#open.values()].toReversed()) {
      files += memory.#size;
      if (files > MOST_OPEN_FILES && memory !== open) HashMemory.#open.delete(memory.file.path);
    }
    return open;
  }

  /** Forgets an environment that is gone, or is called otherwise by now, with what would still be written of it. */
  static async forget({ path }: SealedFile): Promise<void> {
    const open = HashMemory.#open.get(path);
    HashMemory.#open.delete(path);
    if (open) {
      clearTimeout(open.#soon);
      open.#isGone = true;
    }
    await rm(path, { force: true });
  }

  get #size(): number {
    return [...this.#roots.values()].reduce((sum, files) => sum + files.size, 0);
  }

  /** What is known of a root's files by a version of what decides how they are read; anything else is forgotten. */
  filesOf(root: string, version: string): KnownFiles {
    if (version !== this.#version) this.#roots.clear();
    this.#version = version;
    const files = this.#roots.get(root) ?? new Map<ByteString, KnownFile>();
    this.#roots.set(root, files);
    return new KnownFiles(files, () => {
      this.#hasNews = true;
    });
  }

  /** Lets what is news be written soon: a memory that is lost only costs reading files again. @throws why it could not be written before */
  save(): void {
    const failure = this.#failure;
    this.#failure = undefined;
    if (failure) throw failure;
    if (this.#hasNews && !this.#isGone) this.#soon ??= setTimeout(() => void this.#write(), WRITTEN_AFTER_MS).unref();
  }

  async #write(): Promise<void> {
    this.#soon = undefined;
    this.#hasNews = false;
    const roots = Object.fromEntries([...this.#roots].map(([root, files]) => [root, [...files]]));
    try {
      await this.file.write({ format: 'tessarion-hashes/1', version: this.#version, roots });
    } catch (error) {
      this.#failure = error;
      this.#hasNews = true;
    }
  }
}

/** What a comparison and the transfer after it learn is written at once. */
const WRITTEN_AFTER_MS = 3000;

/** Files whose hashes stay in memory between comparisons, of all environments together. */
const MOST_OPEN_FILES = 60_000;

/** What is known of one root's files, by path. */
export class KnownFiles {
  constructor(
    private readonly files: Map<ByteString, KnownFile>,
    private readonly note: () => void,
  ) {}

  recall(path: ByteString, { identity, mode }: TreeNode): FileState | undefined {
    const known = this.files.get(path);
    return known?.identity === identity && known.mode === mode ? known.state : undefined;
  }

  /** @param state what it holds, read after it was last changed */
  remember(path: ByteString, { identity, mode, changedAtNs }: TreeNode, state: FileState): void {
    if (isYoung(changedAtNs)) return;
    this.files.set(path, { identity, mode, state });
    this.note();
  }

  /**
   * The same file after something that changed its time of change and not its content, such as a second name. A write
   * in between shows in size or time of writing.
   */
  follow(path: ByteString, before: TreeNode, after: TreeNode): void {
    const state = this.recall(path, before);
    if (!state || before.identity === after.identity || !isSameContent(before, after)) return;
    this.files.set(path, { identity: after.identity, mode: after.mode, state });
    this.note();
  }
}

const isSameContent = (before: TreeNode, after: TreeNode): boolean =>
  before.written === after.written && before.file === after.file && before.mode === after.mode;

/** What a root holds. */
export interface ListedFiles extends WholeRoot {
  /** Its files and links, by path, in canonical form. */
  readonly files: Map<ByteString, FileState>;
  /** Paths of files that may change once more and look the same in a listing. */
  readonly young: readonly ByteString[];
}

/** The files and links of a root whose areas are of some classes (authored by itself). */
export async function listFiles(
  environment: Environment,
  root: string,
  rewriter: Rewriter,
  memory: HashMemory | undefined,
  version: string,
  classes: ReadonlySet<DataClass> = AUTHORED,
  listings?: Listings,
): Promise<ListedFiles> {
  const files = new Map<ByteString, FileState>();
  const form = new FileForm(environment, rewriter);
  const known = memory?.filesOf(root, version);
  const unknown: WholeEntry[] = [];
  const { entries, folders } = await wholeRoot(environment, root, classes, listings);
  const young = entries.flatMap(({ path, node }) => (node.type === 'file' && isYoung(node.changedAtNs) ? [path] : []));
  for (const entry of entries) {
    const { path, node } = entry;
    if (node.type === 'special')
      throw new EngineError(
        'file-refused',
        `${toText(path)} in ${environment.path} is neither file, folder nor link.`,
        'Remove it, or put it into a local area.',
      );
    if (node.type === 'link') {
      files.set(path, { type: 'link', target: canonicalLink(environment, rewriter, path, node.target as ByteString) });
      continue;
    }
    const state = known?.recall(path, node);
    if (state) files.set(path, state);
    else unknown.push(entry);
  }
  await eachOf(unknown, 8, (entry) =>
    whileThere(async () => {
      const { path, area, node } = entry;
      const state = await form.read(path, area, node.mode, realPathOf(environment, root, entry), hashOf);
      known?.remember(path, node, state);
      files.set(path, state);
    }),
  );
  return { files, entries, folders, young };
}

/** What stands at one path of a root now, in canonical form. */
export async function readState(
  environment: Environment,
  root: string,
  path: ByteString,
  rewriter: Rewriter,
  tree = rootFolder(environment, root),
): Promise<FileState> {
  const { server, profile } = environment;
  const realPath = `${tree}/${path}`;
  const node = await server.nodeAt(realPath);
  if (!node || node.type === 'folder' || node.type === 'special') return { type: 'absent' };
  if (node.type === 'link')
    return { type: 'link', target: canonicalLink(environment, rewriter, path, node.target as ByteString) };
  const form = new FileForm(environment, rewriter);
  return form.read(path, areaOf(areasOf(profile), path), node.mode, realPath, hashOf);
}
