import type { Check } from '@tessarion/contract';
import { type Change, fitCheck, type Misfit, type RowChange } from '@tessarion/core';
import { type Environment, misfitsOfChanges, rewriterOf } from '@tessarion/engine';

/** Tries what would be written against the destination's columns, constraints and unique values. */
export async function checkFit(destination: Environment, changes: readonly Change[]): Promise<Check> {
  const rewriter = rewriterOf(destination);
  const found: Misfit[] = [];
  for (const database of destination.databases) {
    const isHere = (change: Change): change is RowChange => change.part === 'row' && change.database === database.name;
    found.push(...(await misfitsOfChanges(database, changes.filter(isHere), rewriter)).found);
  }
  return fitCheck(
    found,
    `Everything that is written fits ${destination.path}.`,
    `Correct it where it comes from, or make room for it on ${destination.path}.`,
  );
}
