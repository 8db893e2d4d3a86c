import { crc32 } from 'node:zlib';
import {
  BlockCutter,
  type ByteString,
  blocksWithin,
  compareKeys,
  type ImageHistory,
  type KeyedBlock,
  type KeyRange,
  keyText,
  RangeFilter,
  type RowKey,
  rangeOf,
  readLine,
  type TableManifest,
  type Values,
} from '@tessarion/core';
import type { PackStore } from './pack-store.js';
import type { PackWriter } from './pack-writer.js';

/** Stores the rows of one table as blocks. */
export class RowImageWriter {
  readonly #writer: PackWriter;
  readonly #cutter: BlockCutter;
  readonly #blocks: { hash: string | Promise<string>; rows: number; key: ByteString }[] = [];
  rows = 0;
  bytes = 0;

  /** @param keyColumns positions of the key's columns; none for tables without a key */
  constructor(writer: PackWriter, keyColumns: readonly number[]) {
    this.#writer = writer;
    this.#cutter = new BlockCutter(
      (line) => crc32(line),
      (block, rows) => {
        const hash = this.#writer.put(Buffer.from(block, 'latin1'));
        hash.catch(() => undefined);
        const first = block.slice(0, block.indexOf('\n')).split('\t');
        this.#blocks.push({ hash, rows, key: keyColumns.map((column) => first[column] ?? '').join('\t') });
        this.rows += rows;
        this.bytes += block.length;
      },
    );
  }

  async add(lines: ByteString): Promise<void> {
    const before = this.#blocks.length;
    this.#cutter.add(lines);
    await Promise.all(this.#blocks.slice(before).map((block) => block.hash));
  }

  /** Whether the rows added so far are whole blocks, so that a stored one may follow. */
  get isBetweenBlocks(): boolean {
    return this.#cutter.isEmpty;
  }

  /** Takes over a block that is stored already; its bytes are not counted. */
  keep(block: KeyedBlock): void {
    this.#blocks.push(block);
    this.rows += block.rows;
  }

  /** @returns the hash of the block list, or undefined when there were no rows */
  async end(): Promise<string | undefined> {
    this.#cutter.end();
    if (this.#blocks.length === 0) return undefined;
    const lines = await Promise.all(
      this.#blocks.map(async ({ hash, rows, key }) => `${await hash} ${rows}${key === '' ? '' : ` ${key}`}\n`),
    );
    return this.#writer.put(Buffer.from(lines.join(''), 'latin1'));
  }
}

/** Block lists that were read lately, by hash, the last one last: what is compared is often compared again. */
const recentLists = new Map<string, readonly KeyedBlock[]>();
const MOST_RECENT_BLOCKS = 100_000;

/** The blocks of a stored table, in order; keys as COPY text, empty where the table has none. */
export async function blockList(
  store: PackStore,
  table: Pick<TableManifest, 'blocks'> | undefined,
): Promise<readonly KeyedBlock[]> {
  if (table?.blocks === undefined) return [];
  const recent = recentLists.get(table.blocks);
  if (recent && (await store.has(table.blocks))) return recent;
  const lines = (await store.get(table.blocks)).toString('latin1').slice(0, -1).split('\n');
  const blocks = lines.map((line) => {
    const [hash, rows, ...key] = line.split(' ');
    return { hash: hash as string, rows: Number(rows), key: key.join(' ') };
  });
  recentLists.delete(table.blocks);
  recentLists.set(table.blocks, blocks);
  let kept = 0;
  for (const [hash, list] of [...recentLists].reverse()) {
    kept += list.length;
    if (kept > MOST_RECENT_BLOCKS && list !== blocks) recentLists.delete(hash);
  }
  return blocks;
}

/** Reads the stored rows of a table as batches of lines, in key order. */
export async function* readRowImage(
  store: PackStore,
  table: Pick<TableManifest, 'blocks'> | undefined,
): AsyncGenerator<ByteString> {
  for (const block of await blockList(store, table)) yield (await store.get(block.hash)).toString('latin1');
}

/** Reads those stored rows of a table whose key, one integer column, lies in some ranges. */
export async function* readImageRanges(
  store: PackStore,
  blocks: readonly KeyedBlock[],
  keyColumn: number,
  ranges: readonly KeyRange[],
): AsyncGenerator<ByteString> {
  const filter = new RangeFilter(ranges);
  for (const block of blocksWithin(blocks, ranges)) {
    const lines = (await store.get(block.hash)).toString('latin1').slice(0, -1).split('\n');
    const held = lines.filter((line) => filter.holds(line.split('\t', keyColumn + 1)[keyColumn] as ByteString));
    if (held.length > 0) yield `${held.join('\n')}\n`;
  }
}

const keyOf = (line: ByteString, keyColumn: number): ByteString =>
  line.split('\t', keyColumn + 1)[keyColumn] as ByteString;

/** Keys at which the rows of some blocks are not those of others; for tables whose key is one column. */
export async function keysThatDiffer(
  store: PackStore,
  { current, former }: ImageHistory,
  keyColumn: number,
): Promise<Set<ByteString>> {
  const lines = new Map<ByteString, ByteString>();
  const differ = new Set<ByteString>();
  const come: ByteString[] = [];
  const starts = new Map(current.map((block) => [block.key, block]));
  const met = new Set<KeyedBlock>();
  for (const block of former) {
    const successor = starts.get(block.key);
    if (successor) met.add(successor);
    const [before, after] = unlikeMiddles(await store.get(block.hash), successor && (await store.get(successor.hash)));
    for (const line of before) lines.set(keyOf(line, keyColumn), line);
    come.push(...after);
  }
  for (const block of current) if (!met.has(block)) come.push(...linesOf(await store.get(block.hash)));
  for (const line of come) {
    const key = keyOf(line, keyColumn);
    if (lines.get(key) !== line) differ.add(key);
    lines.delete(key);
  }
  for (const key of lines.keys()) differ.add(key);
  return differ;
}

const NEWLINE = 10;

const linesOf = (block: Buffer): ByteString[] =>
  block.length === 0 ? [] : block.toString('latin1', 0, block.length - 1).split('\n');

/** The lines of two blocks without those that both begin and end with. */
function unlikeMiddles(before: Buffer, after: Buffer | undefined): [ByteString[], ByteString[]] {
  if (!after) return [linesOf(before), []];
  const most = Math.min(before.length, after.length);
  let [start, at] = [0, 0];
  for (; at < most && before[at] === after[at]; at++) if (before[at] === NEWLINE) start = at + 1;
  let [tail, back] = [0, 0];
  for (; back < most - start && before[before.length - 1 - back] === after[after.length - 1 - back]; back++)
    if (before[before.length - 1 - back] === NEWLINE) tail = back;
  return [before.subarray(start, before.length - tail), after.subarray(start, after.length - tail)].map(linesOf) as [
    ByteString[],
    ByteString[],
  ];
}

/** Which of some integer keys stand in the stored rows of a table; only blocks that may hold them are read. */
export async function keysHeld(
  store: PackStore,
  blocks: readonly KeyedBlock[],
  keyColumn: number,
  keys: ReadonlySet<ByteString>,
): Promise<Set<ByteString>> {
  const touched = new Set([...keys].map((key) => blocks[rangeOf(blocks, key) - 1]));
  const held = new Set<ByteString>();
  const own = blocks.filter((block) => touched.has(block));
  for (const block of own)
    for (const line of linesOf(await store.get(block.hash))) {
      const key = keyOf(line, keyColumn);
      if (keys.has(key)) held.add(key);
    }
  return held;
}

/** The stored rows of a table that have some keys, by {@link keyText}; only the blocks that may hold them are read. */
export async function imageRowsOf(
  store: PackStore,
  table: TableManifest | undefined,
  keys: readonly RowKey[],
): Promise<Map<string, Values>> {
  const found = new Map<string, Values>();
  if (!table || table.key.length === 0) return found;
  const columns = table.columns.filter((column) => !column.generated).map((column) => column.name);
  const sorted = keys.toSorted((a, b) => compareKeys(a, b, table.keyOrders));
  const blocks = await blockList(store, table);
  let next = 0;
  for (const [i, block] of blocks.entries()) {
    const start = blocks[i + 1]?.key;
    const end = start === undefined || start === '' ? undefined : readLine(start);
    const wanted = new Set<string>();
    for (let key = sorted[next]; key && (!end || compareKeys(key, end, table.keyOrders) < 0); key = sorted[++next])
      wanted.add(keyText(key));
    if (wanted.size === 0) continue;
    for (const line of (await store.get(block.hash)).toString('latin1').slice(0, -1).split('\n')) {
      const values = readLine(line);
      const at = keyText(table.key.map((name) => values[columns.indexOf(name)] ?? null));
      if (wanted.has(at)) found.set(at, values);
    }
  }
  return found;
}
