import {
  type ByteString,
  type ImageHistory,
  joinRanges,
  type KeyedBlock,
  type KeyRange,
  MOST_UNLIKE,
  movedBlocks,
  rangeOf,
  rangesAround,
  rangesMissing,
  readTableId,
  rowsMissing,
  type SnapshotManifest,
  type TableManifest,
  type TableSince,
  tablePath,
} from '@tessarion/core';
import { z } from 'zod';
import type { DatabaseView, ReadingMoment } from '../ports/database.js';
import type { TableShape } from '../ports/shapes.js';
import type { PackStore } from '../store/pack-store.js';
import { blockList, keysHeld, keysThatDiffer } from '../store/row-image.js';
import type { SealedFile } from '../store/sealed-file.js';

const EndRecord = z.object({
  database: z.string(),
  table: z.string(),
  transaction: z.string(),
  /** How many rows the table had then; records of former versions do not say. */
  rows: z.number().optional(),
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
/** A root in which there was nothing to say, with the marks of the folders that were listed. */
const RootRecord = z.object({
  /** What decides how it is compared: profile, addresses, baseline. */
  rules: z.string(),
  /** By the path of the environment, then by folder. */
  ends: z.record(z.string(), z.record(z.string(), z.string())),
});
export type RootRecord = z.infer<typeof RootRecord>;
const RecordFile = z.object({
  format: z.literal('tessarion-changes/1'),
  tables: z.record(z.string(), ChangeRecord),
  roots: z.record(z.string(), RootRecord).default({}),
});

/**
 * Remembers for a pair of environments, table by table, that at a moment each of them held what its image of the
 * baseline holds, but for some keys; so that the next comparison reads only what was written since.
 */
export class ChangeRecords {
  private constructor(
    readonly file: SealedFile,
    readonly tables: Map<string, ChangeRecord>,
    readonly roots: Map<string, RootRecord>,
  ) {}

  /** One that is missing or was changed only costs reading everything once more. */
  static async open(file: SealedFile): Promise<ChangeRecords> {
    const { success, data } = RecordFile.safeParse(await file.read());
    const entries = <T>(of: Record<string, T> | undefined) => new Map(Object.entries(of ?? {}));
    return new ChangeRecords(file, entries(success ? data.tables : {}), entries(success ? data.roots : {}));
  }

  /**
   * Lets what is remembered of tables go on when images of the baseline move on at some keys: these are looked at by the next
   * comparison, which need not find out first where the images differ. What else is remembered stays as it is.
   *
   * @param images by the path of the environment
   * @param keys of the rows in which either image changed, by `tableId`
   * @returns whether anything is remembered otherwise by now
   */
  follow(
    images: ReadonlyMap<string, { readonly before: SnapshotManifest; readonly after: SnapshotManifest }>,
    keys: ReadonlyMap<string, ReadonlySet<ByteString>>,
  ): boolean {
    let hasFollowed = false;
    for (const [id, changed] of keys) {
      const record = this.tables.get(id);
      if (!record) continue;
      const ends: ChangeRecord['ends'] = {};
      for (const [path, { image, ...end }] of Object.entries(record.ends)) {
        const [before, after] = [imageOf(images.get(path)?.before, id), imageOf(images.get(path)?.after, id)];
        if (!before || !after || image !== before.blocks || !hasRanges(after)) break;
        ends[path] = { ...end, ...(after.blocks === undefined ? {} : { image: after.blocks }) };
      }
      if (Object.keys(ends).length < Object.keys(record.ends).length) continue;
      hasFollowed = true;
      const unlike = new Set([...record.keys, ...changed]);
      if (unlike.size > MOST_UNLIKE) this.tables.delete(id);
      else this.tables.set(id, { ...record, ends, keys: [...unlike] });
    }
    return hasFollowed;
  }

  async save(): Promise<void> {
    const [tables, roots] = [this.tables, this.roots].map((one) => Object.fromEntries<unknown>(one));
    await this.file.write({ format: 'tessarion-changes/1', tables, roots });
  }
}

const imageOf = (manifest: SnapshotManifest | undefined, id: string): TableManifest | undefined => {
  const name = readTableId(id);
  const tables = manifest?.databases.find((one) => one.name === name.database)?.tables;
  return tables?.find((one) => tablePath(one) === tablePath(name));
};

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

/** What of a table must be read, and how many rows each end has, where that is known by then. */
export interface Reading {
  readonly toRead: ToRead;
  /** Source first. */
  readonly rows: readonly (number | undefined)[];
}

const WHOLE: Reading = { toRead: 'whole', rows: [] };

/** Looking keys up is worth it as long as it spares more than it costs. */
const MOST_OF_ROWS = 0.6;

/**
 * Tells what of a table must be read by what was remembered of it, and what was written since.
 *
 * @param ends source first
 * @param rules what decides how rows are read
 */
export async function whatToRead(
  record: ChangeRecord | undefined,
  store: PackStore,
  ends: readonly TableEnd[],
  rules: string,
): Promise<Reading> {
  if (record?.rules !== rules || !ends.every((end) => stillHolds(record, end))) return WHOLE;
  const histories = await Promise.all(ends.map((end) => historyOf(store, end, record.ends[end.path]?.image)));
  if (histories.includes(undefined)) return WHOLE;
  const images = histories as ImageHistory[];
  const isKeyed =
    ends.every(({ shape }) => hasRanges(shape)) &&
    images.every(({ current, former }) => areKeyed(current) && areKeyed(former));
  if (!isKeyed) return isWholeTableSame(record, images, ends);
  return rangesToRead(record, store, ends, images);
}

async function rangesToRead(
  record: ChangeRecord,
  store: PackStore,
  ends: readonly TableEnd[],
  images: readonly ImageHistory[],
): Promise<Reading> {
  const [{ image }, { current: blocks }] = [ends[0] as TableEnd, images[0] as ImageHistory];
  const most = MOST_OF_ROWS * image.rows;
  const noted = new Set([...record.keys, ...ends.flatMap((end) => end.paired)]);
  for (const [i, history] of images.entries()) {
    // Where nothing is masked both images are one.
    if (i > 0 && isOneHistory(history, images[0] as ImageHistory)) continue;
    const moved = movedBlocks(history);
    if ([...moved.current, ...moved.former].reduce((sum, block) => sum + block.rows, 0) > 2 * most) return WHOLE;
    for (const key of await keysThatDiffer(store, moved, keyColumn(ends[i] as TableEnd))) noted.add(key);
  }
  const since = await Promise.all(
    ends.map((end) => rowsSince(end, record.ends[end.path]?.transaction as string, noted, most)),
  );
  if (since.includes(undefined)) return WHOLE;
  const rows = since.map((one, i) => (one === 'quiet' ? record.ends[(ends[i] as TableEnd).path]?.rows : one?.rows));
  const keys = new Set(noted);
  for (const one of since) if (one !== 'quiet') for (const key of one?.written ?? []) keys.add(key);
  if (keys.size > most) return { toRead: 'whole', rows };
  const ranges = rangesAround(keys);
  const asked = since.flatMap((one, i) => (one && one !== 'quiet' ? [{ end: ends[i] as TableEnd, since: one }] : []));
  if (asked.length === 0) return { toRead: ranges, rows };
  const held = await keysHeld(store, blocks, keyColumn(ends[0] as TableEnd), keys);
  for (const one of asked) {
    const missing = rowsMissing(blocks, one.since, noted, held);
    if (missing < 0) return { toRead: 'whole', rows };
    if (missing > 0) ranges.push(...(await findMissing(record, blocks, one, noted, held)));
  }
  const joined = joinRanges(ranges);
  return { toRead: rowsWithin(blocks, joined) > most ? 'whole' : joined, rows };
}

const isOneHistory = (a: ImageHistory, b: ImageHistory): boolean =>
  isOneList(a.current, b.current) && isOneList(a.former, b.former);

const isOneList = (a: readonly KeyedBlock[], b: readonly KeyedBlock[]): boolean =>
  a === b || (a.length === b.length && a.every((block, i) => block.hash === b[i]?.hash));

const keyColumn = ({ image }: TableEnd): number =>
  image.columns.filter((column) => !column.generated).findIndex((column) => column.name === image.key[0]);

interface RowsSince extends TableSince {
  readonly rows: number;
  /** Noted keys whose rows are there and were not written since. */
  readonly notedStill: readonly ByteString[];
}

/**
 * What a database holds of a table beside the noted rows: `quiet` when nothing was written since anywhere on the
 * server, so that nobody need look; undefined when too much was written to be worth looking up.
 */
async function rowsSince(
  { view, shape, moment }: TableEnd,
  transaction: string,
  noted: ReadonlySet<ByteString>,
  most: number,
): Promise<RowsSince | 'quiet' | undefined> {
  if (moment && BigInt(moment.next) <= BigInt(transaction)) return 'quiet';
  const { rows, keys } = await view.writtenSince(shape, transaction, Math.ceil(most));
  if (keys === 'too many') return undefined;
  const written = new Set(keys);
  const there = await view.heldKeys(shape, [...noted]);
  const unnoted = keys.filter((key) => !noted.has(key));
  return {
    rows,
    still: rows - unnoted.length - there.length,
    written: unnoted,
    notedStill: there.filter((key) => !written.has(key)),
  };
}

/** Counts rows block by block, to find where some are gone. */
async function findMissing(
  record: ChangeRecord,
  blocks: readonly KeyedBlock[],
  { end, since }: { readonly end: TableEnd; readonly since: RowsSince },
  noted: ReadonlySet<ByteString>,
  held: ReadonlySet<ByteString>,
): Promise<KeyRange[]> {
  const keys = blocks.map((block) => block.key);
  const still = await end.view.countStill(end.shape, keys, record.ends[end.path]?.transaction as string);
  for (const key of since.notedStill) (still[rangeOf(blocks, key)] as number)--;
  return rangesMissing(blocks, still, since, noted, held);
}

/** A table without ranges is read whole, or not at all. */
async function isWholeTableSame(
  record: ChangeRecord,
  images: readonly ImageHistory[],
  ends: readonly TableEnd[],
): Promise<Reading> {
  if (record.keys.length > 0 || ends.some((end) => end.paired.length > 0)) return WHOLE;
  if (images.some(({ current, former }) => current !== former)) return WHOLE;
  const found = await Promise.all(
    ends.map(async ({ view, shape, path, moment, image }) => {
      const then = record.ends[path]?.transaction as string;
      if (moment && BigInt(moment.next) <= BigInt(then)) return { rows: image.rows, isSame: true };
      const { rows, written } = await view.writtenSince(shape, then, 0);
      return { rows, isSame: written === 0 && rows === image.rows };
    }),
  );
  return { toRead: found.every(({ isSame }) => isSame) ? [] : 'whole', rows: found.map(({ rows }) => rows) };
}

/** Half a turn of the counter is where versions can no longer be told apart; well before that a record is too old. */
const LONGEST = 2n ** 31n - 100_000_000n;

function stillHolds(record: ChangeRecord, { path, moment, shape }: TableEnd): boolean {
  const then = record.ends[path];
  if (!then || !moment || then.table !== moment.tables.get(tablePath(shape))) return false;
  return canTell(then, moment);
}

/** Whether versions of rows tell at one moment what was written since another one. */
export function canTell(then: Pick<ReadingMoment, 'database' | 'transaction'>, now: ReadingMoment): boolean {
  const passed = BigInt(now.transaction) - BigInt(then.transaction);
  return then.database === now.database && passed >= 0n && passed < LONGEST;
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

const hasRanges = ({ key, keyOrders }: Pick<TableShape, 'key' | 'keyOrders'>): boolean =>
  key.length === 1 && keyOrders[0] === 'integer';

/** Of lists that stay in memory it is found out once. */
const keyedLists = new WeakMap<readonly KeyedBlock[], boolean>();

function areKeyed(blocks: readonly KeyedBlock[]): boolean {
  const are = keyedLists.get(blocks) ?? blocks.every((block) => /^-?\d+$/.test(block.key));
  keyedLists.set(blocks, are);
  return are;
}

/** About how many rows lie in some ranges: of a block that is only touched, as many keys as the range is wide. */
function rowsWithin(blocks: readonly KeyedBlock[], ranges: readonly KeyRange[]): number {
  let rows = 0;
  for (const { from, to } of ranges) {
    const [first, last] = [
      from === undefined ? 0 : rangeOf(blocks, from),
      to === undefined ? blocks.length : rangeOf(blocks, to),
    ];
    let within = 0;
    for (let i = Math.max(first, 1); i <= last; i++) within += blocks[i - 1]?.rows ?? 0;
    rows += from === undefined || to === undefined ? within : Math.min(within, Number(BigInt(to) - BigInt(from)));
  }
  return rows;
}

/**
 * What is to be remembered of a table that was compared; undefined where the next comparison must read it whole.
 *
 * @param rows how many each end has
 */
export function newRecord(
  ends: readonly TableEnd[],
  rows: readonly (number | undefined)[],
  rules: string,
  unlike: readonly ByteString[] | 'too many',
): ChangeRecord | undefined {
  if (unlike === 'too many' || (unlike.length > 0 && !ends.every(({ shape }) => hasRanges(shape)))) return undefined;
  const found: ChangeRecord['ends'] = {};
  for (const [i, { path, moment, shape, image }] of ends.entries()) {
    const table = moment?.tables.get(tablePath(shape));
    if (!moment || table === undefined) return undefined;
    found[path] = {
      database: moment.database,
      table,
      transaction: moment.transaction,
      ...(rows[i] === undefined ? {} : { rows: rows[i] }),
      ...(image.blocks === undefined ? {} : { image: image.blocks }),
    };
  }
  return { rules, ends: found, keys: [...new Set(unlike)] };
}
