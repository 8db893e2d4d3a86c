import { crc32 } from 'node:zlib';
import { BlockCutter, type ByteString, type TableManifest } from '@tessarion/core';
import type { PackStore, PackWriter } from '../blobs/pack-store.js';

/** Stores the rows of one table as blocks. */
export class RowImageWriter {
  readonly #writer: PackWriter;
  readonly #cutter: BlockCutter;
  readonly #blocks: { hash: Promise<string>; rows: number }[] = [];
  rows = 0;
  bytes = 0;

  constructor(writer: PackWriter) {
    this.#writer = writer;
    this.#cutter = new BlockCutter(
      (line) => crc32(line),
      (block, rows) => {
        const hash = this.#writer.put(Buffer.from(block, 'latin1'));
        hash.catch(() => undefined);
        this.#blocks.push({ hash, rows });
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

  /** @returns the hash of the block list, or undefined when there were no rows */
  async end(): Promise<string | undefined> {
    this.#cutter.end();
    if (this.#blocks.length === 0) return undefined;
    const lines = await Promise.all(this.#blocks.map(async (block) => `${await block.hash} ${block.rows}\n`));
    return this.#writer.put(Buffer.from(lines.join('')));
  }
}

/** The blocks of a stored table, in order. */
export async function blockList(
  store: PackStore,
  table: Pick<TableManifest, 'blocks'>,
): Promise<{ hash: string; rows: number }[]> {
  if (table.blocks === undefined) return [];
  const lines = (await store.get(table.blocks)).toString().trimEnd().split('\n');
  return lines.map((line) => ({ hash: line.slice(0, 64), rows: Number(line.slice(65)) }));
}

/** Reads the stored rows of a table as batches of lines, in key order. */
export async function* readRowImage(
  store: PackStore,
  table: Pick<TableManifest, 'blocks'> | undefined,
): AsyncGenerator<ByteString> {
  if (!table) return;
  for (const block of await blockList(store, table)) yield (await store.get(block.hash)).toString('latin1');
}
