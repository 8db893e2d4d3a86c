import {
  type ByteString,
  type FileChange,
  type RowChange,
  type SnapshotManifest,
  tableId,
  tableOf,
} from '@tessarion/core';
import { AdvancedParts, advanceImage, ChangeRecords, type PackWriter } from '@tessarion/engine';
import { newId } from '../ground/data-folder.js';
import { readBackOf } from '../stored/read-back.js';
import { findBaseline, saveBaseline } from '../stored/snapshots.js';
import type { TransferData } from '../transfers/data.js';
import { pushInput } from '../transfers/inputs.js';
import type { TransferRecord } from '../transfers/transfers.js';
import type { TransferContext } from './context.js';
import { asItTurnedOut, changesOf, ownOf } from './recorded-changes.js';

/** Names of the change sets by which both images of the baseline move on. */
export const imageChanges = (
  { id, outcome }: Pick<TransferRecord, 'id' | 'outcome'>,
  end: 'source' | 'destination',
): string => `${id}-${outcome.isOneImage === true ? 'source' : end}`;

/** Both images of the baseline become what they are by what was written, found equal or settled. */
export async function advanceBaseline(context: TransferContext): Promise<void> {
  const former = context.data.formerBaseline;
  if (!former) return;
  const { installation } = context;
  const pair = await findBaseline(installation.records, former.lower, former.upper);
  if (!pair || pair.lower_manifest !== former.lowerManifest) return;
  const library = context.library();
  const isLowerSource = pushInput(context.record).from === former.lower;
  const takenAt = installation.now().toISOString();
  const found = await readBackOf(context.library(), ownOf(context));
  const done = new AdvancedParts();
  const reshaped = context.data.reshaped ?? [];
  const decided = context.data.decided ?? [];
  let [rows, files]: [RowChange[], FileChange[]] = [[], []];
  let read = '';
  const keys = new Map<string, Set<ByteString>>();
  const advanced = async (writer: PackWriter, manifest: string, end: 'source' | 'destination') => {
    const name = imageChanges(ownOf(context), end);
    // What was read back of rows is the destination's alone.
    if (read !== name || found.size > 0) {
      [rows, files] = [[], []];
      for await (const change of changesOf(context, name)) {
        if (change.part === 'file') files.push(change);
        else rows.push(end === 'source' ? change : asItTurnedOut(change, found));
      }
      noteKeys(keys, rows);
      read = name;
    }
    return advanceImage(
      library,
      writer,
      await library.load(manifest),
      newId('b'),
      takenAt,
      rows,
      files,
      done,
      reshaped,
    );
  };
  const [below, upper] = await library.store.write(
    async (writer) =>
      [
        await advanced(writer, former.lowerManifest, isLowerSource ? 'source' : 'destination'),
        await advanced(writer, former.upperManifest, isLowerSource ? 'destination' : 'source'),
      ] as const,
  );
  const seen = [...new Set([...(below.seen ?? []), ...decided])];
  const lower = {
    ...below,
    ...(seen.length > 0 ? { seen } : {}),
    pairs: pairsAfter(below.pairs ?? [], context.data.pairs ?? [], isLowerSource),
  };
  await library.save(lower);
  await library.save(upper);
  await saveBaseline(installation.records, {
    ...pair,
    lower_manifest: lower.id,
    upper_manifest: upper.id,
    created_at: installation.now(),
  });
  // What is remembered of the pair goes on with them, so that the next comparison need not find out where they differ.
  const images = new Map([
    [former.lower, { before: await library.load(former.lowerManifest), after: lower }],
    [former.upper, { before: await library.load(former.upperManifest), after: upper }],
  ]);
  const changes = await ChangeRecords.open(installation.folder.changes(former.lower, former.upper));
  if (changes.follow(images, keys)) await changes.save();
}

/** Adds the keys of changed rows of tables that have a key of one column, by `tableId`. */
function noteKeys(keys: Map<string, Set<ByteString>>, rows: readonly RowChange[]): void {
  for (const { database, table, key } of rows) {
    if (key.length !== 1 || typeof key[0] !== 'string') continue;
    const id = tableId(tableOf({ database, table }));
    keys.set(id, (keys.get(id) ?? new Set()).add(key[0]));
  }
}

type Pairs = NonNullable<SnapshotManifest['pairs']>;

/** Rows that both ends know by different keys: those of before, and those that this transfer made. */
function pairsAfter(known: Pairs, found: NonNullable<TransferData['pairs']>, isLowerSource: boolean): Pairs {
  const pairs = new Map(known.map((one) => [`${one.table} ${one.lower}`, one]));
  for (const { table, from, to } of found) {
    const one = isLowerSource ? { table, lower: from, upper: to } : { table, lower: to, upper: from };
    pairs.set(`${table} ${one.lower}`, one);
  }
  return [...pairs.values()];
}
