import type { ByteString } from '../address/place.js';
import { CanonicalFormError, Rewriter } from '../address/rewriter.js';
import { MARKER } from '../address/token.js';
import type { Selectable } from '../merge/choice.js';
import type { Collision, Settlement } from '../merge/collision.js';
import type { RowOutcome } from '../merge/compare-table.js';
import { isFresh } from '../merge/key-translation.js';
import type { MergeTable, Values } from '../merge/merge-table.js';
import type { MergePlan } from '../merge/plan-merge.js';
import type { Settled } from '../merge/settle.js';
import { addTo } from '../multimap.js';
import { itemForTable, type TableItemRule } from '../profile/item-rules.js';
import { isPersonalColumn } from '../profile/personal-fields.js';
import { toBytes, toText } from '../rows/condition.js';
import type { RowChange } from '../transfer/change.js';
import {
  type Changed,
  type ItemCollector,
  type ItemCollision,
  type ItemOfRow,
  type Standing,
  shownValue,
} from '../transfer/items.js';
import { collisionWords } from './collision-words.js';
import type { ComparedEnvironments, ForecastEnd } from './comparison.js';
import { asChange, fieldsOf, standsFor } from './item-fields.js';
import { rowStamp, type StampNames, shownStamp } from './stamps.js';

/** How people read canonical values: with an environment's own addresses, and values of settings by their names. */
export function spellingOf({ settings, place }: ForecastEnd): (value: ByteString) => ByteString {
  const names = [...settings.keys()].map((name) => [name, toBytes(`[${name}]`)] as const);
  const shown = new Rewriter(place, new Map(names));
  return (value) => {
    if (!value.includes(MARKER)) return value;
    try {
      return shown.materialise(value);
    } catch (error) {
      if (error instanceof CanonicalFormError) return value;
      throw error;
    }
  };
}

const NONE: readonly never[] = [];

/** What becomes of the rows of a transfer, as items. */
export class GatheredRows {
  readonly #collector: ItemCollector;
  readonly #selectable: Map<string, Selectable>;
  readonly #comparison: ComparedEnvironments;
  readonly #destination: ForecastEnd;
  readonly #wished: (name: string) => Settlement | undefined;
  readonly #spell: (value: ByteString) => ByteString;
  readonly #stamps = new Map<string, Changed>();
  readonly #owners = new Map<RowOutcome, ItemOfRow>();

  /**
   * @param selectable what can be chosen, by id; what rows belong to is added to it
   * @param wished what a person wished for a collision, by the name by which people call it
   */
  constructor(
    collector: ItemCollector,
    selectable: Map<string, Selectable>,
    ends: { readonly comparison: ComparedEnvironments; readonly destination: ForecastEnd },
    wished: (name: string) => Settlement | undefined,
  ) {
    this.#collector = collector;
    this.#selectable = selectable;
    this.#comparison = ends.comparison;
    this.#destination = ends.destination;
    this.#wished = wished;
    this.#spell = spellingOf(ends.destination);
  }

  /** Rows that follow their source down without anybody asking for them one by one. */
  isFollowing({ table, decision }: RowOutcome): boolean {
    if (this.#comparison.merge.direction === 'up') return false;
    if (table.rules.class === 'collected') return true;
    return decision.is === 'updated' && decision.cells.every((cell) => cell.is === 'taken' && cell.follows);
  }

  /** The item that a row is, or is a part of: found by the row as the source knows it, where it knows it. */
  ownerOf(outcome: RowOutcome): ItemOfRow {
    const known = this.#owners.get(outcome);
    if (known) return known;
    const { table, raw, sourceKey } = outcome;
    const values = raw.source ?? raw.baseSource ?? raw.destination;
    const owner = this.#collector.ownerOf(table.name, sourceKey, (column) => values?.[table.columns.indexOf(column)]);
    this.#owners.set(outcome, owner);
    return owner;
  }

  /** The item that a row is, or is a part of. @returns its id; that of work of the destination's own begins with `own ` */
  itemOf(outcome: RowOutcome): string {
    const { name } = outcome.table;
    const isOwn = !outcome.raw.source && !outcome.raw.baseSource;
    const owner = this.ownerOf(outcome);
    const id = isOwn ? `own ${owner.id}` : owner.id;
    if (!this.#selectable.has(id))
      this.#selectable.set(id, { id, kind: owner.kind, part: this.#collector.partOf(name), path: undefined });
    return id;
  }

  /**
   * Notes who last changed a thing on each end and when, where its own row says so.
   *
   * @param names what those that rows name by a key are called, for each end
   */
  noteStamps(names: { readonly from: StampNames; readonly destination: StampNames }): void {
    const personal = new Map<string, boolean>();
    const items = new Map<MergeTable, TableItemRule | undefined>();
    for (const outcome of this.#comparison.rows.outcomes) {
      const { raw, table } = outcome;
      if (!items.has(table)) items.set(table, itemForTable(this.#destination.profile, table.name));
      const item = items.get(table);
      const rule = item?.changed;
      if (!item || !rule) continue;
      const id = this.itemOf(outcome);
      const of = (row: Values | undefined, known: StampNames) =>
        row ? rowStamp(rule, (column) => row[table.columns.indexOf(column)] ?? null, known) : undefined;
      const [source, destination] = [of(raw.source, names.from), of(raw.destination, names.destination)];
      const [last] = [source, destination, of(raw.baseSource, names.from)].filter((one) => one !== undefined);
      this.#selectable.set(id, {
        ...(this.#selectable.get(id) as Selectable),
        changedBy: last?.called,
        changedAt: last?.at === undefined ? undefined : last.at,
      });
      // Whom a mask protects stands in no list.
      const { by } = rule;
      const isPersonal =
        personal.get(table.id) ?? (by !== undefined && isPersonalColumn(this.#destination.profile, item.table, by));
      personal.set(table.id, isPersonal);
      this.#stamps.set(id, {
        source: shownStamp(source, isPersonal),
        destination: shownStamp(destination, isPersonal),
      });
    }
  }

  /** Puts what was noted of each thing's changes to the items that there are. */
  stampItems(): void {
    for (const [id, changed] of this.#stamps) {
      const item = this.#collector.items.get(id);
      if (item) item.changed = changed;
    }
  }

  /** How a person calls a collision: the item, the row where it is a part of one, and the field. */
  #collisionName(outcome: RowOutcome, column: number | undefined): string {
    const { name } = outcome.table;
    const label = this.#collector.partOf(name);
    const owner = this.ownerOf(outcome);
    const row = owner.isOwner ? '' : `/${label} ${outcome.sourceKey.map((one) => toText(one ?? '')).join(' ')}`;
    return `${owner.id}${row}${column === undefined ? '' : `/${outcome.table.columns[column]}`}`;
  }

  /**
   * A value as people read it: with the destination's addresses, on whichever side it stands, so that only content
   * differs; values of settings by their names.
   */
  readonly #show = (value: ByteString | null | undefined): string | null =>
    shownValue(typeof value === 'string' ? this.#spell(value) : value);

  /** People's wishes by the names that the core gives to collisions. */
  settlements(): Map<string, Settlement> {
    const found = new Map<string, Settlement>();
    for (const outcome of this.#comparison.rows.outcomes) {
      const at = `${outcome.table.id} ${JSON.stringify(outcome.sourceKey)}`;
      const whole = this.#wished(this.#collisionName(outcome, undefined));
      if (whole) found.set(at, whole);
      for (const [i, name] of outcome.table.columns.entries()) {
        const wished = this.#wished(this.#collisionName(outcome, i));
        if (wished) found.set(`${at} ${name}`, wished);
      }
    }
    return found;
  }

  /** Puts what becomes of each row among the items, or counts it where it follows its source. */
  add(settled: Settled, plan: MergePlan): void {
    const written = new Set(settled.written);
    const changes = new Map<RowOutcome, RowChange>();
    for (const { change, outcome } of plan.changes) changes.set(outcome, change);
    const collisions = new Map<RowOutcome, Collision[]>();
    for (const one of settled.collisions) addTo(collisions, one.outcome, one);
    const parts = this.#collector.parts;
    for (const outcome of this.#comparison.rows.outcomes) {
      const { decision, table } = outcome;
      if (decision.is === 'agreed' || decision.is === 'untouched') continue;
      const label = this.#collector.partOf(table.name);
      if (this.isFollowing(outcome)) {
        const counts = parts.get(label) ?? {
          name: label,
          type: 'table' as const,
          inserted: 0,
          updated: 0,
          deleted: 0,
          bytes: 0,
        };
        if (decision.is === 'inserted') counts.inserted++;
        else if (decision.is === 'deleted') counts.deleted++;
        else counts.updated++;
        parts.set(label, counts);
        continue;
      }
      const own = collisions.get(outcome) ?? NONE;
      // A row that comes where another one moves away is new, though it is written over that one.
      const planned = decision.is === 'inserted' ? undefined : changes.get(outcome);
      const change = planned ?? asChange(outcome);
      const going = planned ?? (changes.has(outcome) ? change : undefined);
      const whole = own.find((one) => one.column === undefined);
      const becomes = !written.has(outcome)
        ? 'left-out'
        : own.some((one) => !one.settled)
          ? 'needs-you'
          : whole?.settled?.take === 'destination' || !changes.has(outcome)
            ? 'kept'
            : 'written';
      const standing: Standing = {
        outcome: becomes,
        fields: fieldsOf(outcome, going, (column) => this.#collisionName(outcome, column), own, this.#show),
        collisions: own.length === 0 ? NONE : own.map((one) => this.#itemCollision(one)),
        reason: whole ? collisionWords(whole, this.#destination) : this.#numberWords(outcome),
        standsFor: standsFor(outcome, going, own, becomes),
      };
      const overwrites =
        (decision.is === 'inserted' || decision.is === 'deleted') && decision.overwrites
          ? true
          : decision.is === 'updated' && decision.cells.some((cell) => cell.is === 'taken' && cell.overwrites);
      this.#collector.addPart(change, this.ownerOf(outcome), overwrites, standing);
    }
  }

  /** Says when a row goes by another number on the destination, or names others that will. */
  #numberWords({ table, key, sourceKey, decision, sides }: RowOutcome): string {
    const inside = table.uses.filter((use) => use.inside && sides.source?.[use.column]?.includes('\0'));
    if (inside.length > 0 && !isFresh(key[0])) {
      const names = [...new Set(inside.map((use) => table.columns[use.column]))].join(', ');
      return `In ${names} it names new things by the numbers that they have here; there they get numbers of their own.`;
    }
    if (decision.is !== 'inserted' || !table.drawsKeys || !isFresh(key[0])) return '';
    const name = this.#destination.path.split('/')[1] ?? this.#destination.path;
    return `It gets a number of its own: on ${name}, ${toText(sourceKey[0] ?? '')} stands for something else.`;
  }

  #itemCollision(one: Collision): ItemCollision {
    const { settled } = one;
    return {
      id: this.#collisionName(one.outcome, one.column),
      words: collisionWords(one, this.#destination),
      field: one.column === undefined ? null : (one.outcome.table.columns[one.column] ?? null),
      allowed: one.allowed,
      settled: settled
        ? { take: settled.take, value: settled.take === 'edited' ? shownValue(settled.value) : null }
        : null,
    };
  }
}
