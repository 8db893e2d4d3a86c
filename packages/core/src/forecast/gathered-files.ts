import type { Side } from '../merge/align-sides.js';
import type { Selectable } from '../merge/choice.js';
import type { FileOutcome } from '../merge/compare-files.js';
import type { SettledFile } from '../merge/settle-files.js';
import { toText } from '../rows/condition.js';
import type { FileChange } from '../transfer/change.js';
import type { ItemCollector } from '../transfer/items.js';

/** What becomes of the files of a transfer, as items. */
export class GatheredFiles {
  readonly #collector: ItemCollector;
  readonly #selectable: Map<string, Selectable>;

  /** @param selectable what can be chosen, by id; files are added to it */
  constructor(collector: ItemCollector, selectable: Map<string, Selectable>) {
    this.#collector = collector;
    this.#selectable = selectable;
  }

  #selectableOf({ root, path, area }: FileOutcome): Selectable {
    const { id, kind, title } = this.#collector.fileItem(root, path);
    const known = this.#selectable.get(id) ?? { id, kind, part: area, path: title };
    this.#selectable.set(id, known);
    return known;
  }

  /** Whether a file is written, by what was chosen and settled. */
  isWritten(file: SettledFile, chosen: (id: string) => boolean): boolean {
    const { decision } = file.outcome;
    if (decision.is === 'agreed' || decision.is === 'own') return false;
    if (decision.is === 'taken' && decision.follows) return true;
    return chosen(this.#selectableOf(file.outcome).id) && file.settled !== 'destination';
  }

  /** Puts what becomes of a file among the items, or counts it where it follows its source. */
  add(file: SettledFile, chosen: (id: string) => boolean): void {
    const { outcome, collides, settled, after } = file;
    if (outcome.decision.is === 'agreed' || outcome.decision.is === 'own') return;
    if (outcome.decision.is === 'taken' && outcome.decision.follows) {
      this.#count(outcome);
      return;
    }
    const { id } = this.#selectableOf(outcome);
    const { root, path, sides, decision } = outcome;
    const change: FileChange = { part: 'file', root, path, before: sides.destination, after: after ?? sides.source };
    const words = `Both ends changed ${toText(path)}.`;
    this.#collector.addFile(outcome.area, change, decision.is === 'taken' && decision.overwrites, {
      outcome: !chosen(id)
        ? 'left-out'
        : collides && !settled
          ? 'needs-you'
          : settled === 'destination'
            ? 'kept'
            : 'written',
      // What stays as it is on the destination may change there.
      standsFor: settled === 'destination' ? { ...change, before: null } : change,
      fields: [],
      collisions: collides
        ? [
            {
              id,
              words,
              field: null,
              allowed: ['source', 'destination'],
              settled: settled ? { take: settled, value: null } : null,
            },
          ]
        : [],
      reason:
        settled === 'destination'
          ? words
          : decision.is === 'merged'
            ? 'Both ends changed it at different lines; both changes are kept.'
            : '',
    });
  }

  #count({ area, sides }: FileOutcome): void {
    const { parts } = this.#collector;
    const counts = parts.get(area) ?? {
      name: area,
      type: 'area' as const,
      inserted: 0,
      updated: 0,
      deleted: 0,
      bytes: 0,
    };
    if (sides.destination.type === 'absent') counts.inserted++;
    else if (sides.source.type === 'absent') counts.deleted++;
    else counts.updated++;
    if (sides.source.type === 'file') counts.bytes += sides.source.size;
    parts.set(area, counts);
  }

  /** What a baseline's image of the files becomes: the source's state for everything that was treated. */
  edits(files: readonly SettledFile[], chosen: (id: string) => boolean, end: Side): FileChange[] {
    return files.flatMap((file): FileChange[] => {
      const { outcome, settled } = file;
      const { root, path, sides } = outcome;
      if (outcome.decision.is === 'own' || (outcome.decision.is === 'taken' && outcome.decision.follows)) return [];
      if (outcome.decision.is !== 'agreed' && !chosen(this.#selectableOf(outcome).id)) return [];
      const after = end === 'source' || settled !== 'destination' ? sides.source : sides.destination;
      return [{ part: 'file', root, path, before: { type: 'absent' }, after }];
    });
  }
}
