import type { ByteString } from '../address/place.js';
import type { TableComparison } from './compare-table.js';
import type { MergeRules } from './decide-row.js';
import { isFresh, type KeyPair, type KeyTranslation } from './key-translation.js';
import { keyOf, type MergeTable, type Values } from './merge-table.js';

/** Pairs what is one thing, and gives fresh keys to what is two. @returns the new pairs of keys */
export function tellApart(
  table: MergeTable,
  result: TableComparison,
  merge: MergeRules,
  keys: KeyTranslation,
  moves: KeyTranslation,
): KeyPair[] {
  const pairs: KeyPair[] = [];
  const pair = (from: ByteString, to: ByteString): void => {
    keys.pair(table.id, from, to);
    pairs.push({ table: table.id, from, to });
  };
  const renew = (from: ByteString): void => {
    pairs.push({ table: table.id, from, to: keys.renew(table.id, from) });
  };
  const natural = (values: Values): string => JSON.stringify(table.naturalKey.map((i) => values[i] ?? null));
  const waiting = new Map<string, ByteString>();
  if (table.naturalKey.length > 0) {
    for (const [key, values] of result.newInDestination) waiting.set(natural(values), key);
    for (const { destination, isDestinationNew } of result.displaced)
      if (isDestinationNew) waiting.set(natural(destination), keyOf(table, destination)[0] as ByteString);
  }
  const partner = (values: Values): ByteString | undefined => {
    const name = natural(values);
    const key = waiting.get(name);
    waiting.delete(name);
    return key;
  };
  for (const [key, values] of result.newInSource) {
    const other = table.naturalKey.length > 0 ? partner(values) : undefined;
    if (other !== undefined && other !== key) pair(key, other);
    else if (isFresh(keys.translate(table.id, key)) && keys.mapped(table.id, key) === undefined) renew(key);
  }
  for (const key of result.homeless) if (keys.mapped(table.id, key) === undefined) renew(key);
  for (const { source, destination, sourceKey, isSourceNew } of result.displaced) {
    const place = keyOf(table, destination)[0] as ByteString;
    const other = table.naturalKey.length > 0 && isSourceNew ? partner(source) : undefined;
    if (other !== undefined && other !== place) pair(sourceKey, other);
    else {
      // The destination's row stays where another of the source's rows was found to be the same thing.
      if (merge.direction === 'up' || keys.isTaken(table.id, place)) renew(sourceKey);
      else moves.renew(table.id, place);
    }
  }
  return pairs;
}
