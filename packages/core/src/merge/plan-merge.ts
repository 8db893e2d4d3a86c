import type { ByteString } from '../address/place.js';
import { MARKER } from '../address/token.js';
import { addTo } from '../multimap.js';
import type { DataClass } from '../profile/schema.js';
import type { RowKey } from '../rows/keys.js';
import { spelledAs } from './align-sides.js';
import { addChange, changesBetween, keyFor, type PlannedChange } from './changes-between.js';
import type { Collision } from './collision.js';
import type { RowOutcome } from './compare-table.js';
import type { Comparison } from './compare-tables.js';
import { decideRow, isSame, type MergeRules, type RowSides } from './decide-row.js';
import { formerKey, isFresh, type KeyPair, KeyTranslation } from './key-translation.js';
import { keyText, type MergeTable, type Values } from './merge-table.js';
import { rowAfter } from './row-after.js';
import type { Settled } from './settle.js';

/** One row of a baseline's image: what it holds from now on, or nothing. */
export interface ImageEdit {
  readonly table: MergeTable;
  readonly key: readonly (ByteString | null)[];
  readonly values: Values | undefined;
  /** The destination's key of the same row, where it is another one. */
  readonly counterpart?: readonly (ByteString | null)[] | undefined;
}

/** What a transfer writes, and what both baselines become by it. */
export interface MergePlan {
  readonly changes: readonly PlannedChange[];
  readonly source: readonly ImageEdit[];
  readonly destination: readonly ImageEdit[];
  /** Pairs of keys that hold from now on. */
  readonly pairs: readonly KeyPair[];
}

/**
 * Spells out what was settled, with the keys that were drawn for new rows.
 *
 * @param known pairs of keys from former transfers
 * @param drawn a key for every fresh one, by the placeholder (see {@link freshKeysOf})
 */
export function planMerge(
  comparison: Comparison,
  settled: Settled,
  merge: MergeRules,
  known: Iterable<KeyPair>,
  drawn: ReadonlyMap<ByteString, ByteString>,
): MergePlan {
  const keys = new KeyTranslation('arriving', known);
  const moves = new KeyTranslation('moving');
  for (const [translation, pairs] of [
    [keys, comparison.found],
    [moves, comparison.moved],
  ] as const)
    for (const { table, from, to } of pairs) {
      const key = isFresh(to) ? drawn.get(to) : to;
      if (key !== undefined) translation.pair(table, from, key);
    }
  const collisions = new Map<RowOutcome, Collision[]>();
  for (const one of settled.collisions) addTo(collisions, one.outcome, one);
  const changes = new Map<string, PlannedChange>();
  const source: ImageEdit[] = [];
  const destination: ImageEdit[] = [];
  const pairs = new Map<string, KeyPair>();
  for (const outcome of [...settled.written, ...settled.acknowledged]) {
    const { table, raw } = outcome;
    const there = raw.destination ?? raw.baseDestination;
    const spelling =
      there && keyFor(table, there).some((one) => one?.includes(MARKER)) ? keyFor(table, there) : undefined;
    const spelled = (row: Values): Values => (spelling ? spelledAs(table, row, spelling) : row);
    const sides: RowSides = {
      source: raw.source && spelled(keys.row(table, raw.source)),
      destination: raw.destination && moves.row(table, raw.destination),
      baseSource: raw.baseSource && spelled(keys.row(table, raw.baseSource)),
      baseDestination: raw.baseDestination && spelled(moves.row(table, raw.baseDestination)),
    };
    const hasNewKeys = comparison.found.length + comparison.moved.length > 0;
    const decision =
      hasNewKeys && outcome.decision.is !== 'untouched' ? decideRow(table, sides, merge) : outcome.decision;
    if (decision.is === 'two-things')
      throw new Error(`Row ${keyText(outcome.sourceKey)} of ${table.id} was not told apart.`);
    const own = collisions.get(outcome) ?? [];
    const merged = rowAfter(outcome, decision, sides, merge, own);
    const written = merged && withoutPlaceholders(table, merged);
    const after = written && raw.source ? heldOnce(written, raw.source) : written;
    for (const change of changesBetween(table, raw.destination, after)) addChange(changes, { change, outcome });
    if (decision.is === 'untouched') {
      // The row moved, and what is known of it moves along.
      if (!raw.baseDestination || !sides.baseDestination) continue;
      destination.unshift({ table, key: keyFor(table, raw.baseDestination), values: undefined });
      destination.push({ table, key: keyFor(table, sides.baseDestination), values: sides.baseDestination });
      continue;
    }
    const isNew = !raw.destination && after !== undefined;
    const standing = after ?? raw.destination ?? raw.baseDestination;
    const key = standing && heldOnce(keyFor(table, standing), outcome.sourceKey);
    for (const [image, base, now] of [
      [source, raw.baseSource, outcome.sourceKey],
      [destination, spelling && raw.baseDestination, key],
    ] as const)
      if (base && now) {
        const key = keyFor(table, base);
        if (isSpelledOtherwise(key, now)) image.push({ table, key, values: undefined });
      }
    if (raw.source !== undefined || raw.baseSource !== undefined)
      source.push({
        table,
        key: outcome.sourceKey,
        values: nextBase(table, raw.source, raw.baseSource, decision, isNew, merge.direction),
        ...(key && key !== outcome.sourceKey ? { counterpart: key } : {}),
      });
    if (key)
      destination.push({
        table,
        key,
        values: nextBase(
          table,
          after && withoutMerged(after, decision, sides.source),
          sides.baseDestination,
          decision,
          isNew,
          merge.direction,
        ),
      });
    const [from, to] = [outcome.sourceKey[0], key?.[0]];
    if (table.drawsKeys && raw.source && after && typeof from === 'string' && typeof to === 'string' && from !== to)
      pairs.set(`${table.id} ${from}`, { table: table.id, from, to });
  }
  return { changes: [...changes.values()], source, destination, pairs: [...pairs.values()] };
}

/** Whether both images move on alike, as they do wherever nothing is masked and no key is another one. */
export function isOneImage({ source, destination }: Pick<MergePlan, 'source' | 'destination'>): boolean {
  const isSameRow = (a: Values | undefined, b: Values | undefined): boolean =>
    a === b || (a?.length === b?.length && a?.every((value, i) => value === b?.[i]) === true);
  return (
    source.length === destination.length &&
    source.every((one, i) => {
      const other = destination[i];
      if (!other || one.counterpart || other.counterpart || one.table.id !== other.table.id) return false;
      return isSameRow(one.key, other.key) && isSameRow(one.values, other.values);
    })
  );
}

const isSpelledOtherwise = (a: RowKey, b: RowKey): boolean =>
  a.some((one, i) => one !== b[i]) && a.every((one, i) => isSame(one, b[i]));

/** A row in which every key that is still to be drawn is the one that it was: a reference to nothing stays as it is. */
export function withoutPlaceholders(table: MergeTable, row: Values): Values {
  if (!row.some((value) => value?.includes('\0'))) return row;
  const former = (key: ByteString): ByteString => (isFresh(key) ? formerKey(key) : key);
  return row.map((value, i) => {
    if (value === null || !value.includes('\0')) return value;
    const inside = table.uses.filter((use) => use.column === i && use.inside);
    return inside.reduce((text, use) => use.inside?.replace(text, former) ?? text, former(value));
  });
}

/** A row without what the destination's own changes added to members of its values: those stay its own. */
function withoutMerged(row: Values, decision: RowOutcome['decision'], source: Values | undefined): Values {
  if (decision.is !== 'updated' || !decision.cells.some((cell) => cell.is === 'taken' && cell.isMerged)) return row;
  const merged = new Set(decision.cells.flatMap((cell) => (cell.is === 'taken' && cell.isMerged ? [cell.column] : [])));
  return row.map((value, i) => (merged.has(i) ? (source?.[i] ?? null) : value));
}

/** A row of an image after a transfer: what was treated is as it is now, all else as it was. */
function nextBase(
  table: MergeTable,
  now: Values | undefined,
  base: Values | undefined,
  decision: RowOutcome['decision'],
  isNew: boolean,
  direction: MergeRules['direction'],
): Values | undefined {
  if (!now || !base || isNew) return now;
  const cells = decision.is === 'updated' || decision.is === 'agreed' ? decision.cells : undefined;
  if (!cells) {
    const isTreated = (dataClass: DataClass | undefined): boolean =>
      dataClass === 'authored' || (dataClass === 'collected' && direction === 'down');
    return heldOnce(
      base.map((value, i) => (isTreated(table.rules.columns[i]?.class) ? (now[i] ?? null) : value)),
      now,
    );
  }
  const next = [...base];
  for (const { column } of cells) next[column] = now[column] ?? null;
  return heldOnce(next, now);
}

/** A row or a key, or the same one as somebody else holds it. */
const heldOnce = (row: Values, other: Values): Values =>
  row.length === other.length && row.every((value, i) => value === other[i]) ? other : row;
