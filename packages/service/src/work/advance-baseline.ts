import type { FileChange, RowChange, SnapshotManifest } from '@tessarion/core';
import { AdvancedParts, advanceImage, type PackWriter } from '@tessarion/engine';
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
  const advanced = async (writer: PackWriter, manifest: string, end: 'source' | 'destination') => {
    const name = imageChanges(ownOf(context), end);
    // What was read back of rows is the destination's alone.
    if (read !== name || found.size > 0) {
      [rows, files] = [[], []];
      for await (const change of changesOf(context, name)) {
        if (change.part === 'file') files.push(change);
        else rows.push(end === 'source' ? change : asItTurnedOut(change, found));
      }
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
