import type { ByteString } from '../address/place.js';
import { addTo } from '../multimap.js';
import type { DataClass } from '../profile/schema.js';
import { writeLine } from '../rows/copy-text.js';
import type { RowChange } from '../transfer/change.js';
import type { Comparison, RowOutcome } from './compare-tables.js';
import {
  arriving,
  type CellOutcome,
  classOfCell,
  classOfRow,
  decideRow,
  isSame,
  type MergeRules,
  type RowCollision,
  type RowSides,
} from './decide-row.js';
import { formerKey, isFresh, type KeyPair, KeyTranslation } from './key-translation.js';
import { keyOf, keyText, type MergeTable, type Values } from './merge-table.js';

export type Side = 'source' | 'destination';

/** How a person settled a collision; an edited value stands in canonical form. */
export type Settlement = { readonly take: Side } | { readonly take: 'edited'; readonly value: ByteString | null };

/** Something that is not written before a person or a rule settles it. */
export interface Collision {
  /** Stable over forecasts of the same pair. */
  readonly id: string;
  readonly outcome: RowOutcome;
  /** Position of the column, where the collision is in one cell. */
  readonly column: number | undefined;
  readonly why:
    | { readonly is: 'both-changed' }
    | { readonly is: RowCollision }
    /** Rows of a table that is not merged refer to what would be deleted. */
    | { readonly is: 'referred'; readonly by: string; readonly rows: number }
    /** Something that the destination made or changed refers to what would be deleted. */
    | { readonly is: 'referred-by-own'; readonly by: string; readonly key: string }
    /** It refers to something that the destination deleted or does not get. */
    | { readonly is: 'refers-to-gone'; readonly table: string; readonly key: string }
    /** It is a part of something that stays. */
    | { readonly is: 'part-of-kept' }
    /** Another row of the destination has a value that must be unique. */
    | { readonly is: 'taken'; readonly columns: readonly string[]; readonly key: string };
  readonly allowed: readonly Settlement['take'][];
  readonly settled: Settlement | undefined;
}

/** What people chose and how they settled what collides. */
export interface Wishes {
  /** Items (by id) that may be written; what they depend on comes along. */
  readonly isChosen: (item: string) => boolean;
  /** By {@link Collision.id}. */
  readonly settlements: ReadonlyMap<string, Settlement>;
  /** For collisions that nobody settled one by one. */
  readonly rest: Side | undefined;
}

/** What only the destination can say. */
export interface DestinationFacts {
  /** Rows of tables that are not merged and that refer to some of the keys. */
  referrers(table: MergeTable, keys: readonly ByteString[]): Promise<readonly Referrer[]>;
  /** Rows that hold one of some combinations of values. */
  holders(table: MergeTable, columns: readonly number[], values: readonly Values[]): Promise<readonly Holder[]>;
}

export interface Referrer {
  readonly key: ByteString;
  readonly table: string;
  readonly rows: number;
}

export interface Holder {
  readonly values: Values;
  readonly row: Values;
}

/** One row of a baseline's image: what it holds from now on, or nothing. */
export interface ImageEdit {
  readonly table: MergeTable;
  readonly key: readonly (ByteString | null)[];
  readonly values: Values | undefined;
  /** The destination's key of the same row, where it is another one. */
  readonly counterpart?: readonly (ByteString | null)[] | undefined;
}

export interface Settled {
  readonly collisions: readonly Collision[];
  /** Items that are written though nobody chose them, each with an item that depends on it. */
  readonly takenAlong: ReadonlyMap<string, string>;
  /** Outcomes that will be written, in the order of the comparison, once nothing collides in them. */
  readonly written: readonly RowOutcome[];
  /** Outcomes whose baseline moves on without anything being written. */
  readonly acknowledged: readonly RowOutcome[];
}

const collisionId = (outcome: RowOutcome, column: number | undefined): string =>
  `${outcome.table.id} ${keyText(outcome.sourceKey)}${column === undefined ? '' : ` ${outcome.table.columns[column]}`}`;

const place = (table: string, key: ByteString): string => `${table} ${key}`;

/**
 * Works out what is written: the chosen items, what they depend on, and what was settled.
 *
 * @param itemOf the item that a row belongs to
 */
export async function settle(
  comparison: Comparison,
  merge: MergeRules,
  wishes: Wishes,
  facts: DestinationFacts,
  itemOf: (outcome: RowOutcome) => string,
): Promise<Settled> {
  return new Settling(comparison, merge, wishes, facts, itemOf).run();
}

/** Each round settles more, or is the last. */
const MOST_ROUNDS = 100_000;

class Settling {
  readonly #collisions = new Map<RowOutcome, Collision[]>();
  /** Outcomes of rows with a key of one column, by {@link place}. */
  readonly #byKey = new Map<string, RowOutcome>();
  readonly #byRow = new Map<string, RowOutcome>();
  readonly #byDestination = new Map<string, RowOutcome>();
  readonly #byItem = new Map<string, RowOutcome[]>();
  readonly #items = new Map<RowOutcome, string>();
  readonly #takenAlong = new Map<string, string>();
  readonly #chosen = new Set<string>();
  /** Rows that the destination deleted itself and does not get. */
  readonly #gone = new Set<string>();
  #isStable = false;

  constructor(
    readonly comparison: Comparison,
    readonly merge: MergeRules,
    readonly wishes: Wishes,
    readonly facts: DestinationFacts,
    itemOf: (outcome: RowOutcome) => string,
  ) {
    for (const outcome of comparison.outcomes) {
      const item = itemOf(outcome);
      this.#items.set(outcome, item);
      addTo(this.#byItem, item, outcome);
      const { destination } = outcome.raw;
      this.#byRow.set(`${outcome.table.id} ${keyText(outcome.key)}`, outcome);
      if (destination)
        this.#byDestination.set(`${outcome.table.id} ${keyText(keyOf(outcome.table, destination))}`, outcome);
      const key = outcome.key.length === 1 ? outcome.key[0] : undefined;
      if (key !== undefined && key !== null) this.#byKey.set(place(outcome.table.id, key), outcome);
    }
    for (const { table, key } of comparison.lacking)
      if (key.length === 1 && typeof key[0] === 'string') this.#gone.add(place(table.id, key[0]));
  }

  async run(): Promise<Settled> {
    for (const outcome of this.comparison.outcomes) this.#collide(outcome);
    await this.#findReferrers();
    for (const item of this.#byItem.keys()) if (this.wishes.isChosen(item)) this.#chosen.add(item);
    // What is settled for the destination's sake may leave others without what they need.
    for (let round = 1; !this.#isStable; round++) {
      if (round > MOST_ROUNDS) throw new Error(`What collides is not settled after ${round} rounds.`);
      this.#isStable = true;
      this.#findOwnReferrers();
      this.#keepWhole();
      this.#takeAlong();
      await this.#findTaken();
    }
    const written: RowOutcome[] = [];
    const acknowledged: RowOutcome[] = [];
    for (const outcome of this.comparison.outcomes) {
      if (outcome.decision.is === 'agreed') acknowledged.push(outcome);
      else if (this.#chosen.has(this.#itemOf(outcome))) written.push(outcome);
      // Rows of the destination that make way, or refer to such, go with whatever comes in their place.
      else if (outcome.raw.destination !== outcome.sides.destination)
        written.push({ ...outcome, decision: { is: 'untouched' } });
    }
    return {
      collisions: [...this.#collisions.values()].flat(),
      takenAlong: this.#takenAlong,
      written,
      acknowledged,
    };
  }

  #itemOf(outcome: RowOutcome): string {
    return this.#items.get(outcome) as string;
  }

  /** Notes a collision; of several that concern a whole row, the one that allows least stands. */
  #add(outcome: RowOutcome, column: number | undefined, why: Collision['why'], allowed: Settlement['take'][]): void {
    const id = collisionId(outcome, column);
    const others = this.#collisions.get(outcome) ?? [];
    const known = others.find((one) => one.id === id);
    if (known && known.allowed.length <= allowed.length) return;
    const settled = this.#settlementOf(outcome, id, allowed, why.is === 'part-of-kept');
    this.#collisions.set(outcome, [
      ...others.filter((one) => one !== known),
      { id, outcome, column, why, allowed, settled },
    ]);
    this.#isStable = false;
  }

  #settlementOf(
    outcome: RowOutcome,
    id: string,
    allowed: readonly Settlement['take'][],
    isFollowing: boolean,
  ): Settlement | undefined {
    // Collected rows that cannot follow are left out of a copy; nobody is asked for each of them.
    if (this.merge.direction === 'down' && classOfRow(outcome.table.rules, outcome.sides) === 'collected')
      return { take: 'destination' };
    if (isFollowing) return { take: 'destination' };
    const wished = this.wishes.settlements.get(id);
    if (wished && allowed.includes(wished.take)) return wished;
    const { rest } = this.wishes;
    return rest !== undefined && allowed.includes(rest) ? { take: rest } : undefined;
  }

  #collide(outcome: RowOutcome): void {
    const { decision } = outcome;
    if (decision.is === 'colliding')
      this.#add(outcome, undefined, { is: decision.collision }, ['source', 'destination']);
    if (decision.is !== 'updated') return;
    for (const cell of decision.cells)
      if (cell.is === 'colliding')
        this.#add(outcome, cell.column, { is: 'both-changed' }, ['source', 'destination', 'edited']);
  }

  /** Whether an outcome may be written as the source has it, as far as is known. */
  #takes(outcome: RowOutcome): boolean {
    return !(this.#collisions.get(outcome) ?? []).some(
      (one) => one.column === undefined && (one.settled?.take === 'destination' || !one.allowed.includes('source')),
    );
  }

  #deletes(outcome: RowOutcome): boolean {
    const { decision, sides } = outcome;
    return (
      decision.is === 'deleted' || (decision.is === 'colliding' && !sides.source && sides.destination !== undefined)
    );
  }

  #inserts(outcome: RowOutcome): boolean {
    const { decision, sides } = outcome;
    return decision.is === 'inserted' || (decision.is === 'colliding' && !sides.destination);
  }

  /** What is still referred to is not deleted. */
  async #findReferrers(): Promise<void> {
    const deleted = this.comparison.outcomes.filter((one) => this.#deletes(one) && one.key.length === 1);
    if (deleted.length === 0) return;
    const byTable = new Map<MergeTable, RowOutcome[]>();
    for (const one of deleted) addTo(byTable, one.table, one);
    for (const [table, outcomes] of byTable) {
      const keys = outcomes.map((one) => one.key[0] as ByteString);
      for (const { key, table: by, rows } of await this.facts.referrers(table, keys)) {
        const outcome = this.#byKey.get(place(table.id, key));
        if (outcome) this.#add(outcome, undefined, { is: 'referred', by, rows }, ['destination']);
      }
    }
  }

  /** What the destination made or changed itself keeps what it refers to. */
  #findOwnReferrers(): void {
    for (const own of this.comparison.ownChanges) {
      if (!own.values) continue;
      const change = this.#byRow.get(`${own.table.id} ${keyText(own.key)}`);
      if (change && this.#deletes(change) && this.#takes(change)) continue;
      for (const { table, key } of keysIn(own.table, change ? this.afterwards(change) : own.values)) {
        if (table === own.table.id && own.key.length === 1 && key === own.key[0]) continue;
        const outcome = this.#byKey.get(place(table, key));
        if (!outcome || !this.#deletes(outcome) || outcome === change) continue;
        const by = { is: 'referred-by-own', by: own.table.id, key: own.key.join(' ') } as const;
        this.#add(outcome, undefined, by, ['destination']);
      }
    }
  }

  /** An item of which one row stays, since it cannot go, stays with all its rows. */
  #keepWhole(): void {
    if (this.merge.method === 'replace') return;
    for (const outcomes of this.#byItem.values()) {
      const deleted = outcomes.filter((one) => this.#deletes(one));
      if (deleted.length < 2 || deleted.every((one) => this.#takes(one))) continue;
      for (const one of deleted)
        if (this.#takes(one)) this.#add(one, undefined, { is: 'part-of-kept' }, ['destination']);
    }
  }

  /** Takes along what the chosen items refer to, and what refers to something that they delete. */
  #takeAlong(): void {
    const waiting = [...this.#chosen];
    const choose = (item: string, because: string): void => {
      if (this.#chosen.has(item)) return;
      this.#chosen.add(item);
      this.#takenAlong.set(item, because);
      waiting.push(item);
      this.#isStable = false;
    };
    const referrers = this.#referrersInSource();
    for (let item = waiting.pop(); item !== undefined; item = waiting.pop()) {
      for (const outcome of this.#byItem.get(item) ?? []) {
        if (!this.#takes(outcome)) continue;
        for (const { table, key } of keysIn(outcome.table, writtenValues(outcome))) {
          const target = this.#byKey.get(place(table, key));
          if (target && target !== outcome && this.#inserts(target)) {
            choose(this.#itemOf(target), item);
            if (this.#takes(target)) continue;
          }
          const isGone = target ? this.#inserts(target) && !this.#takes(target) : this.#gone.has(place(table, key));
          if (!isGone) continue;
          const gone = { is: 'refers-to-gone', table, key: isFresh(key) ? formerKey(key) : key } as const;
          this.#add(outcome, undefined, gone, ['destination']);
        }
        if (!this.#deletes(outcome) || outcome.key.length !== 1) continue;
        for (const referrer of referrers.get(place(outcome.table.id, outcome.key[0] as ByteString)) ?? []) {
          choose(this.#itemOf(referrer), item);
          if (this.#takes(referrer)) continue;
          const by = { is: 'referred-by-own', by: referrer.table.id, key: referrer.key.join(' ') } as const;
          this.#add(outcome, undefined, by, ['destination']);
        }
      }
    }
  }

  /** What refers to a key on the destination and no longer will, because the source deleted or changed it. */
  #referrersInSource(): Map<string, RowOutcome[]> {
    const found = new Map<string, RowOutcome[]>();
    for (const outcome of this.comparison.outcomes) {
      const { destination } = outcome.sides;
      if (!destination || outcome.decision.is === 'agreed') continue;
      for (const { table, key } of keysIn(outcome.table, destination)) {
        const at = place(table, key);
        if (outcome.key.length === 1 && at === place(outcome.table.id, outcome.key[0] ?? '')) continue;
        addTo(found, at, outcome);
      }
    }
    return found;
  }

  /** Finds unique values that another row of the destination has. */
  async #findTaken(): Promise<void> {
    // A push by replace does not ask; a value that is taken stops it as one that does not fit.
    if (this.merge.method === 'replace') return;
    const tables = new Map<MergeTable, { outcome: RowOutcome; after: Values }[]>();
    for (const outcome of this.comparison.outcomes) {
      if (!this.#chosen.has(this.#itemOf(outcome)) || !this.#takes(outcome) || this.#deletes(outcome)) continue;
      if (outcome.decision.is === 'agreed' || outcome.decision.is === 'untouched') continue;
      const after = this.afterwards(outcome);
      if (after) addTo(tables, outcome.table, { outcome, after });
    }
    for (const [table, rows] of tables) {
      const natural = table.naturalKey.length > 0 ? [table.naturalKey] : [];
      for (const columns of [...table.uniques, ...natural]) {
        const wanted = rows.filter(({ outcome, after }) => {
          const before = outcome.raw.destination;
          return (
            columns.every((i) => after[i] !== null && after[i] !== undefined && !isFresh(after[i])) &&
            (!before || columns.some((i) => !isSame(before[i], after[i])))
          );
        });
        if (wanted.length === 0) continue;
        const text = (values: Values): string => JSON.stringify(values);
        const byValues = new Map(wanted.map((one) => [text(columns.map((i) => one.after[i] ?? null)), one]));
        const values = wanted.map(({ after }) => columns.map((i) => after[i] ?? null));
        for (const holder of await this.facts.holders(table, columns, values)) {
          const wants = byValues.get(text(holder.values));
          if (!wants) continue;
          const holderKey = keyOf(table, holder.row);
          const physical = wants.outcome.raw.destination;
          if (physical && keyText(keyOf(table, physical)) === keyText(holderKey)) continue;
          const releasing = this.#releases(table, holderKey, columns, holder.values);
          if (releasing && this.#chosen.has(this.#itemOf(releasing))) continue;
          if (releasing) {
            this.#chosen.add(this.#itemOf(releasing));
            this.#takenAlong.set(this.#itemOf(releasing), this.#itemOf(wants.outcome));
            this.#isStable = false;
            continue;
          }
          const names = columns.map((i) => table.columns[i] as string);
          this.#add(wants.outcome, undefined, { is: 'taken', columns: names, key: holderKey.join(' ') }, [
            'destination',
          ]);
        }
      }
    }
  }

  /** The outcome by which a row of the destination gives up a unique value. */
  #releases(
    table: MergeTable,
    key: readonly (ByteString | null)[],
    columns: readonly number[],
    values: Values,
  ): RowOutcome | undefined {
    const outcome = this.#byDestination.get(`${table.id} ${keyText(key)}`);
    if (!outcome || !this.#takes(outcome)) return undefined;
    if (this.#deletes(outcome)) return outcome;
    const after = this.afterwards(outcome);
    return after && columns.some((i, at) => !isSame(after[i], values[at])) ? outcome : undefined;
  }

  /** The row as the destination will hold it, as far as it is settled. */
  afterwards(outcome: RowOutcome): Values | undefined {
    return rowAfter(outcome, outcome.decision, outcome.sides, this.merge, this.#collisions.get(outcome) ?? []);
  }
}

/** Keys that a row holds of other rows. */
export function* keysIn(
  { uses }: MergeTable,
  values: Values | undefined,
): Generator<{ table: string; key: ByteString }> {
  if (!values) return;
  for (const use of uses) {
    const value = values[use.column];
    if (value === null || value === undefined || (use.when && !use.when(values))) continue;
    const keys: ByteString[] = use.inside ? [] : [value];
    use.inside?.replace(value, (key) => {
      keys.push(key);
      return key;
    });
    for (const key of keys) for (const table of [use.table, ...(use.through ?? [])]) yield { table, key };
  }
}

/** Values that an outcome writes, the others null. */
function writtenValues({ table, sides, decision }: RowOutcome): Values | undefined {
  switch (decision.is) {
    case 'inserted':
      return decision.values;
    case 'colliding':
      return sides.source;
    case 'updated': {
      const values: (ByteString | null)[] = table.columns.map(() => null);
      for (const cell of decision.cells) if (cell.is !== 'agreed') values[cell.column] = cell.value;
      return table.uses.some((use) => use.when) ? withConditions(table, values, sides.source) : values;
    }
    case 'agreed':
    case 'deleted':
    case 'untouched':
      return undefined;
  }
}

/** Cells that say what kind of reference a row holds are needed beside the reference. */
function withConditions(
  table: MergeTable,
  written: readonly (ByteString | null)[],
  source: Values | undefined,
): Values {
  const references = new Set(table.uses.map((use) => use.column));
  return written.map((value, i) => value ?? (references.has(i) ? null : (source?.[i] ?? null)));
}

/** The destination's row after an outcome was written; undefined where there is none. */
function rowAfter(
  outcome: RowOutcome,
  decision: RowOutcome['decision'],
  sides: RowSides,
  merge: MergeRules,
  collisions: readonly Collision[],
): Values | undefined {
  const whole = collisions.filter((one) => one.column === undefined);
  if (whole.some((one) => one.settled?.take === 'destination')) {
    if (decision.is !== 'updated' || classOfRow(outcome.table.rules, sides) !== 'authored') return sides.destination;
    const isReference = (column: number): boolean => outcome.table.uses.some((use) => use.column === column);
    const following = decision.cells.filter((cell) => cell.is === 'taken' && cell.follows && !isReference(cell.column));
    return withCells(following, sides.destination as Values, []);
  }
  switch (decision.is) {
    case 'inserted':
      return decision.values;
    case 'deleted':
      return undefined;
    case 'agreed':
    case 'untouched':
      return sides.destination;
    case 'colliding':
      if (whole.some((one) => !one.settled)) return sides.destination;
      return sides.source && overwritten(outcome.table, sides, merge);
    case 'updated':
      return withCells(decision.cells, sides.destination as Values, collisions);
  }
}

/** The source's authored cells over the destination's row. */
function overwritten(table: MergeTable, sides: RowSides, merge: MergeRules): Values {
  const source = arriving(table, sides.source as Values, merge);
  const { destination } = sides;
  if (!destination) return source;
  const rowClass = classOfRow(table.rules, sides);
  return destination.map((value, i) => {
    const column = table.rules.columns[i];
    return column && classOfCell(column, table.rules, rowClass) === 'authored' ? (source[i] ?? null) : value;
  });
}

function withCells(cells: readonly CellOutcome[], row: Values, collisions: readonly Collision[]): Values {
  const after = [...row];
  for (const cell of cells) {
    if (cell.is === 'agreed') continue;
    if (cell.is === 'taken') {
      after[cell.column] = cell.value;
      continue;
    }
    const settled = collisions.find((one) => one.column === cell.column)?.settled;
    if (settled?.take === 'source') after[cell.column] = cell.value;
    if (settled?.take === 'edited') after[cell.column] = settled.value;
  }
  return after;
}

/** A change to a row, and the outcome that it comes of. */
export interface PlannedChange {
  readonly change: RowChange;
  readonly outcome: RowOutcome;
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
    const sides: RowSides = {
      source: raw.source && keys.row(table, raw.source),
      destination: raw.destination && moves.row(table, raw.destination),
      baseSource: raw.baseSource && keys.row(table, raw.baseSource),
      baseDestination: raw.baseDestination && moves.row(table, raw.baseDestination),
    };
    const hasNewKeys = comparison.found.length + comparison.moved.length > 0;
    const decision =
      hasNewKeys && outcome.decision.is !== 'untouched' ? decideRow(table, sides, merge) : outcome.decision;
    if (decision.is === 'two-things')
      throw new Error(`Row ${keyText(outcome.sourceKey)} of ${table.id} was not told apart.`);
    const own = collisions.get(outcome) ?? [];
    const merged = rowAfter(outcome, decision, sides, merge, own);
    const after = merged && withoutPlaceholders(table, merged);
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
    const key = standing && keyFor(table, standing);
    if (raw.source !== undefined || raw.baseSource !== undefined)
      source.push({
        table,
        key: outcome.sourceKey,
        values: nextBase(table, raw.source, raw.baseSource, decision, own, isNew, merge.direction),
        ...(key && keyText(key) !== keyText(outcome.sourceKey) ? { counterpart: key } : {}),
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
          own,
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

/** A key that must be drawn before anything is written. */
export interface FreshKey {
  readonly placeholder: ByteString;
  readonly table: MergeTable;
  /** The key that the row had. */
  readonly former: ByteString;
  /** The destination's row makes way, rather than one of the source arriving. */
  readonly isMoving: boolean;
  /** Keys that other rows bring along. */
  readonly avoid: ReadonlySet<ByteString>;
}

/** Fresh keys that must be drawn for what will be written, in the order of writing. */
export function freshKeysOf(comparison: Comparison, settled: Settled): FreshKey[] {
  const wanted = new Map<ByteString, MergeTable>();
  const arriving = new Map<string, Set<ByteString>>();
  for (const { table, key, decision } of settled.written) {
    if (!table.drawsKeys || typeof key[0] !== 'string' || decision.is === 'untouched') continue;
    if (isFresh(key[0])) wanted.set(key[0], table);
    else arriving.set(table.id, (arriving.get(table.id) ?? new Set()).add(key[0]));
  }
  // A row of the destination moves only for a row that really comes in its place.
  for (const { table: id, from, to } of comparison.moved) {
    const table = comparison.outcomes.find((one) => one.table.id === id)?.table;
    if (table && arriving.get(id)?.has(from)) wanted.set(to, table);
  }
  const moving = new Set(comparison.moved.map((one) => one.to));
  return [...wanted].map(([placeholder, table]) => ({
    placeholder,
    table,
    former: formerKey(placeholder),
    isMoving: moving.has(placeholder),
    avoid: arriving.get(table.id) ?? new Set(),
  }));
}

/** A reference to nothing stays as it is. */
function withoutPlaceholders(table: MergeTable, row: Values): Values {
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
  collisions: readonly Collision[],
  isNew: boolean,
  direction: MergeRules['direction'],
): Values | undefined {
  if (!now || !base || isNew) return now;
  const cells = decision.is === 'updated' || decision.is === 'agreed' ? decision.cells : undefined;
  if (!cells || collisions.some((one) => one.column === undefined)) {
    const isTreated = (dataClass: DataClass | undefined): boolean =>
      dataClass === 'authored' || (dataClass === 'collected' && direction === 'down');
    return base.map((value, i) => (isTreated(table.rules.columns[i]?.class) ? (now[i] ?? null) : value));
  }
  const treated = new Set(cells.map((cell) => cell.column));
  return base.map((value, i) => (treated.has(i) ? (now[i] ?? null) : value));
}

/** The changes that make one row of another; one with another key is written anew and goes at its former place. */
function changesBetween(table: MergeTable, before: Values | undefined, after: Values | undefined): RowChange[] {
  const on = (row: Values) =>
    ({ part: 'row', database: table.database, table: table.table, key: keyFor(table, row) }) as const;
  const named = (row: Values) => Object.fromEntries(table.columns.map((name, i) => [name, row[i] ?? null]));
  if (!before) return after ? [{ ...on(after), op: 'insert', row: named(after) }] : [];
  if (!after) return [{ ...on(before), op: 'delete', row: named(before) }];
  if (keyText(keyFor(table, before)) !== keyText(keyFor(table, after)))
    return [
      { ...on(before), op: 'delete', row: named(before) },
      { ...on(after), op: 'insert', row: named(after) },
    ];
  const cells = table.columns.flatMap((name, i) =>
    isSame(before[i], after[i]) ? [] : [[name, { before: before[i] ?? null, after: after[i] ?? null }] as const],
  );
  return cells.length === 0 ? [] : [{ ...on(before), op: 'update', cells: Object.fromEntries(cells) }];
}

const keyFor = (table: MergeTable, row: Values): readonly (ByteString | null)[] =>
  table.key.length > 0 ? keyOf(table, row) : [writeLine(row)];

/** Adds a change; a row that goes where another comes becomes that one in place. */
function addChange(changes: Map<string, PlannedChange>, planned: PlannedChange): void {
  const { change, outcome } = planned;
  const { table } = outcome;
  if (table.key.length === 0) {
    changes.set(`${table.id} ${changes.size}`, planned);
    return;
  }
  const at = `${table.id} ${keyText(change.key)}`;
  const known = changes.get(at);
  if (!known) {
    changes.set(at, planned);
    return;
  }
  const [goes, comes] = change.op === 'insert' ? [known, planned] : [planned, known];
  if (goes.change.op !== 'delete' || comes.change.op !== 'insert')
    throw new Error(`Row ${keyText(change.key)} of ${table.id} is changed twice.`);
  const { row } = goes.change;
  const cells = Object.entries(comes.change.row).flatMap(([name, after]) => {
    const before = row[name] ?? null;
    return isSame(before, after) ? [] : [[name, { before, after }] as const];
  });
  changes.delete(at);
  const { part, database, table: name, key } = comes.change;
  if (cells.length > 0)
    changes.set(at, {
      change: { part, database, table: name, key, op: 'update', cells: Object.fromEntries(cells) },
      outcome: comes.outcome,
    });
}
