import type { FileState } from '../transfer/change.js';
import type { Side } from './collision.js';
import type { FileOutcome } from './compare-files.js';

/** A file outcome with what the path will hold; `after` is undefined while nobody settled it. */
export interface SettledFile {
  readonly outcome: FileOutcome;
  readonly collides: boolean;
  readonly settled: Side | undefined;
  readonly after: FileState | undefined;
}

/**
 * Works out what becomes of each file.
 *
 * @param settlement how a person or a rule settled a collision
 */
export function settleFiles(
  outcomes: readonly FileOutcome[],
  settlement: (outcome: FileOutcome) => Side | undefined,
): SettledFile[] {
  return outcomes.map((outcome) => {
    const collides = outcome.decision.is === 'colliding';
    const settled = collides ? settlement(outcome) : undefined;
    return { outcome, collides, settled, after: fileAfter(outcome, settled) };
  });
}

function fileAfter({ decision, sides }: FileOutcome, settled: Side | undefined): FileState | undefined {
  switch (decision.is) {
    case 'agreed':
    case 'own':
      return sides.destination;
    case 'taken':
      return sides.source;
    case 'merged':
      return decision.after;
    case 'colliding':
      return settled && sides[settled];
  }
}
