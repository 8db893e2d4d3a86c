import type { FileState } from '../transfer/change.js';
import type { FileOutcome } from './compare-files.js';
import type { Side } from './settle.js';

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
  return outcomes.map((outcome): SettledFile => {
    const { decision, sides } = outcome;
    switch (decision.is) {
      case 'agreed':
      case 'own':
        return { outcome, collides: false, settled: undefined, after: sides.destination };
      case 'taken':
        return { outcome, collides: false, settled: undefined, after: sides.source };
      case 'merged':
        return { outcome, collides: false, settled: undefined, after: decision.after };
      case 'colliding': {
        const settled = settlement(outcome);
        return { outcome, collides: true, settled, after: settled && sides[settled] };
      }
    }
  });
}
