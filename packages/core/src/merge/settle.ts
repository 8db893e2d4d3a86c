import type { ByteString } from '../address/place.js';
import { addTo } from '../multimap.js';
import type { RowKey } from '../rows/keys.js';
import type { TableName } from '../table-name.js';
import type { Collision, Settlement, Side } from './collision.js';
import type { RowOutcome } from './compare-table.js';
import type { Comparison } from './compare-tables.js';
import { classOfRow, isSame, type MergeRules } from './decide-row.js';
import { formerKey, isFresh } from './key-translation.js';
import { keysIn } from './key-uses.js';
import { keyOf, keyText, type MergeTable, type Values } from './merge-table.js';
import { rowAfter, writtenValues } from './row-after.js';

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

/** Rows of a table that refer to a key. */
export interface Referrer {
  readonly key: ByteString;
  readonly table: TableName;
  readonly rows: number;
}

/** A row that holds a combination of values. */
export interface Holder {
  readonly values: Values;
  readonly row: Values;
}

/** What is written once people's choices and settlements are followed. */
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

const rowPlace = (table: string, key: RowKey): string => `${table} ${keyText(key)}`;

const referring = new WeakMap<MergeTable, boolean>();

/** Whether rows of a table hold keys beside their own. */
function refersToOthers(table: MergeTable): boolean {
  const isOwn = ({ column, table: of, through, inside }: MergeTable['uses'][number]): boolean =>
    of === table.id && table.key.length === 1 && table.columns[column] === table.key[0] && !through?.length && !inside;
  const known = referring.get(table) ?? table.uses.some((use) => !isOwn(use));
  referring.set(table, known);
  return known;
}

/** A key as people know it, whatever it becomes. */
const spoken = (key: RowKey): ByteString =>
  key.map((one) => (isFresh(one) ? formerKey(one as ByteString) : (one ?? ''))).join(' ');

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
  /** Outcomes of rows with a key of one column, by table and key. */
  readonly #byKey = new Map<string, Map<ByteString, RowOutcome>>();
  /** Outcomes by {@link rowPlace}, and by that of their row on the destination; made when somebody asks. */
  #byRow: ReadonlyMap<string, RowOutcome> | undefined;
  #byDestination: ReadonlyMap<string, RowOutcome> | undefined;
  #referrers: ReadonlyMap<string, RowOutcome[]> | undefined;
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
      const key = outcome.key.length === 1 ? outcome.key[0] : undefined;
      if (key === undefined || key === null) continue;
      const ofTable = this.#byKey.get(outcome.table.id) ?? new Map<ByteString, RowOutcome>();
      this.#byKey.set(outcome.table.id, ofTable.set(key, outcome));
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

  #rowWith(table: string, key: ByteString): RowOutcome | undefined {
    return this.#byKey.get(table)?.get(key);
  }

  #rowAt({ id }: MergeTable, key: RowKey): RowOutcome | undefined {
    this.#byRow ??= new Map(this.comparison.outcomes.map((one) => [rowPlace(one.table.id, one.key), one]));
    return this.#byRow.get(rowPlace(id, key));
  }

  #rowOnDestination({ id }: MergeTable, key: RowKey): RowOutcome | undefined {
    this.#byDestination ??= new Map(
      this.comparison.outcomes.flatMap((one) => {
        const { destination } = one.raw;
        return destination ? [[rowPlace(one.table.id, keyOf(one.table, destination)), one]] : [];
      }),
    );
    return this.#byDestination.get(rowPlace(id, key));
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
        const outcome = this.#rowWith(table.id, key);
        if (outcome) this.#add(outcome, undefined, { is: 'referred', by, rows }, ['destination']);
      }
    }
  }

  /** What the destination made or changed itself keeps what it refers to. */
  #findOwnReferrers(): void {
    for (const own of this.comparison.ownChanges) {
      if (!own.values) continue;
      const change = this.#rowAt(own.table, own.key);
      if (change && this.#deletes(change) && this.#takes(change)) continue;
      for (const { table, key } of keysIn(own.table, change ? this.#afterwards(change) : own.values)) {
        if (table === own.table.id && own.key.length === 1 && key === own.key[0]) continue;
        const outcome = this.#rowWith(table, key);
        if (!outcome || !this.#deletes(outcome) || outcome === change) continue;
        const by = { is: 'referred-by-own', by: own.table.id, key: spoken(own.key) } as const;
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
    for (let item = waiting.pop(); item !== undefined; item = waiting.pop()) {
      for (const outcome of this.#byItem.get(item) ?? []) {
        if (!this.#takes(outcome)) continue;
        const written = refersToOthers(outcome.table) ? writtenValues(outcome) : undefined;
        for (const { table, key } of keysIn(outcome.table, written)) {
          const target = this.#rowWith(table, key);
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
        this.#referrers ??= this.#referrersInSource();
        for (const referrer of this.#referrers.get(place(outcome.table.id, outcome.key[0] as ByteString)) ?? []) {
          choose(this.#itemOf(referrer), item);
          if (this.#takes(referrer)) continue;
          const by = { is: 'referred-by-own', by: referrer.table.id, key: spoken(referrer.key) } as const;
          this.#add(outcome, undefined, by, ['destination']);
        }
      }
    }
  }

  /** What refers to a key on the destination and no longer will, because the source deleted or changed it. */
  #referrersInSource(): ReadonlyMap<string, RowOutcome[]> {
    const found = new Map<string, RowOutcome[]>();
    for (const outcome of this.comparison.outcomes) {
      const { destination } = outcome.sides;
      if (!destination || outcome.decision.is === 'agreed' || !refersToOthers(outcome.table)) continue;
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
      if (outcome.table.uniques.length === 0 && outcome.table.naturalKey.length === 0) continue;
      const after = this.#afterwards(outcome);
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
    const outcome = this.#rowOnDestination(table, key);
    if (!outcome || !this.#takes(outcome)) return undefined;
    if (this.#deletes(outcome)) return outcome;
    const after = this.#afterwards(outcome);
    return after && columns.some((i, at) => !isSame(after[i], values[at])) ? outcome : undefined;
  }

  /** The row as the destination will hold it, as far as it is settled. */
  #afterwards(outcome: RowOutcome): Values | undefined {
    return rowAfter(outcome, outcome.decision, outcome.sides, this.merge, this.#collisions.get(outcome) ?? []);
  }
}
