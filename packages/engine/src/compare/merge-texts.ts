import {
  areaOf,
  type ByteString,
  type FileOutcome,
  type FileState,
  isLineText,
  LONGEST_MERGED_TEXT,
  mergeLines,
  Rewriter,
  sameFile,
} from '@tessarion/core';
import { areasOf, type Environment } from '../site/environment.js';
import { FileForm } from '../site/root-reader.js';
import type { PackStore } from '../store/pack-store.js';
import type { PackWriter } from '../store/pack-writer.js';

type Content = Extract<FileState, { type: 'file' }>;

/**
 * Merges by lines the text files that both sides changed; what was merged is kept in the store until it is written.
 *
 * @param source where the source's texts are read; `stored` when the store has them
 */
export async function mergeTexts(
  store: PackStore,
  source: Environment | 'stored',
  destination: Environment,
  outcomes: readonly FileOutcome[],
): Promise<FileOutcome[]> {
  const candidates = outcomes.filter((one) => one.decision.is === 'colliding');
  if (candidates.length === 0) return [...outcomes];
  const ends = { source: source === 'stored' ? undefined : new Side(source), destination: new Side(destination) };
  const merged = new Map<FileOutcome, FileState>();
  await store.write(async (writer) => {
    for (const one of candidates) {
      const after = await mergeText(one, ends, store, writer);
      if (after) merged.set(one, after);
    }
  });
  return outcomes.map((one) => {
    const after = merged.get(one);
    return after ? { ...one, decision: { is: 'merged', after } } : one;
  });
}

async function mergeText(
  { root, path, sides }: FileOutcome,
  ends: { readonly source: Side | undefined; readonly destination: Side },
  store: PackStore,
  writer: PackWriter,
): Promise<FileState | undefined> {
  const { source, destination, baseSource, baseDestination } = sides;
  const isFile = (state: FileState): state is Content => state.type === 'file' && state.size <= LONGEST_MERGED_TEXT;
  if (!isFile(source) || !isFile(destination) || !isFile(baseSource)) return undefined;
  // Lines can only be told apart against one common text.
  if (!sameFile(baseSource, baseDestination)) return undefined;
  const base = await storedText(store, baseSource);
  const [theirs, ours] = [
    ends.source ? await ends.source.text(root, path, source) : await storedText(store, source),
    await ends.destination.text(root, path, destination),
  ];
  if (base === undefined || theirs === undefined || ours === undefined) return undefined;
  if (![base, theirs, ours].every(isLineText)) return undefined;
  const text = mergeLines(base, theirs, ours);
  if (text === undefined) return undefined;
  const content = Buffer.from(text, 'latin1');
  return {
    type: 'file',
    mode: source.mode === baseSource.mode ? destination.mode : source.mode,
    size: content.length,
    pieces: [await writer.put(content)],
    ...ends.destination.plainHash(path, content),
  };
}

async function storedText(store: PackStore, { pieces }: Content): Promise<ByteString | undefined> {
  const parts = await Promise.all(pieces.map((hash) => store.get(hash)));
  return Buffer.concat(parts).toString('latin1');
}

/** The texts of one environment, in canonical form. */
class Side {
  readonly #form: FileForm;

  constructor(readonly environment: Environment) {
    this.#form = new FileForm(environment, new Rewriter(environment.place));
  }

  /** @returns undefined when the file is not as it was listed any more */
  async text(root: string, path: ByteString, listed: Content): Promise<ByteString | undefined> {
    const folder = this.environment.place.roots.find((one) => one.name === root)?.path as ByteString;
    const parts: Buffer[] = [];
    for await (const piece of this.#form.canonicalPieces(path, this.#area(path), `${folder}/${path}`))
      parts.push(piece);
    const content = Buffer.concat(parts);
    return content.length === listed.size ? content.toString('latin1') : undefined;
  }

  plainHash(path: ByteString, content: Buffer): { plain?: string } {
    return this.#form.plainHash(path, this.#area(path), content);
  }

  #area(path: ByteString) {
    return areaOf(areasOf(this.environment.profile), path);
  }
}
