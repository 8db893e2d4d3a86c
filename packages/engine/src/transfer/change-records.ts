import { randomUUID } from 'node:crypto';
import * as fs from 'node:fs/promises';
import {
  type ByteString,
  changedRanges,
  type ImageHistory,
  type KeyedBlock,
  type KeyRange,
  type TableManifest,
} from '@tessarion/core';
import { z } from 'zod';
import type { PackStore } from '../blobs/pack-store.js';
import { type DatabaseView, fullName, type ReadingMoment, type TableShape } from '../database/site-database.js';
import { blockList } from '../snapshot/row-image.js';

const EndRecord = z.object({
  database: z.string(),
  table: z.string(),
  transaction: z.string(),
  /** Hash of the image's block list; absent where it has no rows. */
  image: z.string().optional(),
});
const ChangeRecord = z.object({
  /** What decides how rows are read: profile and addresses. */
  rules: z.string(),
  /** By the path of the environment. */
  ends: z.record(z.string(), EndRecord),
  keys: z.array(z.string()),
});
type ChangeRecord = z.infer<typeof ChangeRecord>;
const RecordFile = z.object({ format: z.literal('tessarion-changes/1'), tables: z.record(z.string(), ChangeRecord) });

/**
 * Remembers for a pair of environments, table by table, that at a moment each of them held what its image of the
 * baseline holds, but for some keys; so that the next comparison reads only what was written since.
 */
export class ChangeRecords {
  private constructor(
    readonly file: string,
    readonly tables: Map<string, ChangeRecord>,
  ) {}

  /** A missing or broken file only costs reading everything once more. */
  static async open(file: string): Promise<ChangeRecords> {
    try {
      const { tables } = RecordFile.parse(JSON.parse(await fs.readFile(file, 'utf8')));
      return new ChangeRecords(file, new Map(Object.entries(tables)));
    } catch {
      return new ChangeRecords(file, new Map());
    }
  }

  async save(): Promise<void> {
    const temporary = `${this.file}.${randomUUID()}.new`;
    const content = { format: 'tessarion-changes/1', tables: Object.fromEntries(this.tables) };
    await fs.writeFile(temporary, JSON.stringify(content), { mode: 0o600 });
    await fs.rename(temporary, this.file);
  }
}

/** One end of a table that is compared: where it is read, and its image in the baseline. */
export interface TableEnd {
  readonly path: string;
  readonly view: DatabaseView;
  readonly moment: ReadingMoment | undefined;
  readonly shape: TableShape;
  readonly image: TableManifest;
  /** Keys by which rows of this end go on the other. */
  readonly paired: readonly ByteString[];
}

/** What of a table must be read: everything, or the rows of some ranges of its key. */
export type ToRead = 'whole' | readonly KeyRange[];

/** Ranges are worth it as long as they spare more than they cost. */
const MOST_OF_BLOCKS = 0.6;

/**
 * Tells what of a table must be read by what was remembered of it, and counts what was written since.
 *
 * @param ends source first
 * @param rules what decides how rows are read
 */
export async function whatToRead(
  record: ChangeRecord | undefined,
  store: PackStore,
  ends: readonly TableEnd[],
  rules: string,
): Promise<ToRead> {
  if (record?.rules !== rules || !ends.every((end) => stillHolds(record, end))) return 'whole';
  const histories = await Promise.all(ends.map((end) => historyOf(store, end, record.ends[end.path]?.image)));
  if (histories.includes(undefined)) return 'whole';
  const images = histories as ImageHistory[];
  const bounds = ends.every(hasRanges) && images.every(({ current, former }) => areKeyed(current) && areKeyed(former));
  const source = ends[0] as TableEnd;
  if (!bounds) return isWholeTableSame(record, images, ends);
  const blocks = (images[0] as ImageHistory).current;
  const keys = blocks.map((block) => block.key);
  const counts = await Promise.all(
    ends.map(({ view, shape, path }) => view.countSince(shape, keys, record.ends[path]?.transaction as string)),
  );
  const ranges = changedRanges(blocks, counts, images, [...record.keys, ...ends.flatMap((end) => end.paired)]);
  const rows = counts[0]?.reduce((sum, one) => sum + one.rows, 0) ?? 0;
  return rowsWithin(blocks, ranges) > MOST_OF_BLOCKS * Math.max(rows, source.image.rows) ? 'whole' : ranges;
}

/** A table without ranges is read whole, or not at all. */
async function isWholeTableSame(
  record: ChangeRecord,
  images: readonly ImageHistory[],
  ends: readonly TableEnd[],
): Promise<ToRead> {
  if (record.keys.length > 0 || ends.some((end) => end.paired.length > 0)) return 'whole';
  if (images.some(({ current, former }) => current !== former)) return 'whole';
  const counts = await Promise.all(
    ends.map(({ view, shape, path }) => view.countSince(shape, [], record.ends[path]?.transaction as string)),
  );
  return counts.every(([all], i) => all?.isWritten === false && all.rows === ends[i]?.image.rows) ? [] : 'whole';
}

/** Half a turn of the counter is where versions can no longer be told apart; well before that a record is too old. */
const LONGEST = 2n ** 31n - 100_000_000n;

function stillHolds(record: ChangeRecord, { path, moment, shape }: TableEnd): boolean {
  const then = record.ends[path];
  if (!then || !moment || then.database !== moment.database) return false;
  if (then.table !== moment.tables.get(fullName(shape))) return false;
  const passed = BigInt(moment.transaction) - BigInt(then.transaction);
  return passed >= 0n && passed < LONGEST;
}

async function historyOf(
  store: PackStore,
  { image }: TableEnd,
  former: string | undefined,
): Promise<ImageHistory | undefined> {
  const current = await blockList(store, image);
  if (former === image.blocks) return { current, former: current };
  if (former !== undefined && !(await store.has(former))) return undefined;
  return { current, former: await blockList(store, former === undefined ? undefined : { blocks: former }) };
}

const hasRanges = ({ shape }: TableEnd): boolean => shape.key.length === 1 && shape.keyOrders[0] === 'integer';

const areKeyed = (blocks: readonly KeyedBlock[]): boolean => blocks.every((block) => /^-?\d+$/.test(block.key));

function rowsWithin(blocks: readonly KeyedBlock[], ranges: readonly KeyRange[]): number {
  const starts = new Map(blocks.map((block, i) => [block.key, i]));
  let rows = 0;
  for (const { from, to } of ranges) {
    const end = to === undefined ? blocks.length : (starts.get(to) ?? 0);
    for (let i = from === undefined ? 0 : (starts.get(from) ?? 0); i < end; i++) rows += blocks[i]?.rows ?? 0;
  }
  return rows;
}

/** What is to be remembered of a table that was compared; undefined where the next comparison must read it whole. */
export function newRecord(
  ends: readonly TableEnd[],
  rules: string,
  unlike: readonly ByteString[] | 'too many',
): ChangeRecord | undefined {
  if (unlike === 'too many' || (unlike.length > 0 && !ends.every(hasRanges))) return undefined;
  const found: ChangeRecord['ends'] = {};
  for (const { path, moment, shape, image } of ends) {
    const table = moment?.tables.get(fullName(shape));
    if (!moment || table === undefined) return undefined;
    found[path] = {
      database: moment.database,
      table,
      transaction: moment.transaction,
      ...(image.blocks === undefined ? {} : { image: image.blocks }),
    };
  }
  return { rules, ends: found, keys: [...new Set(unlike)] };
}
