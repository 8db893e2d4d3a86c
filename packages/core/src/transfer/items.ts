import type { ByteString } from '../address/place.js';
import { matchesPath } from '../pattern.js';
import { itemForTable, itemOfPart, type TableItemRule } from '../profile/item-rules.js';
import { calledIn } from '../profile/named-tables.js';
import { isPersonalColumn } from '../profile/personal-fields.js';
import type { Profile } from '../profile/schema.js';
import { toText } from '../rows/condition.js';
import type { RowKey } from '../rows/keys.js';
import { type TableName, tableId, tableOf } from '../table-name.js';
import { type Change, type FileChange, type RowChange, valueIn } from './change.js';
import type { Amount } from './sentence.js';

/** One value as all sides have it, texts shortened. */
export interface ItemField {
  readonly name: string;
  /** What both had in common. */
  readonly base: string | null;
  readonly source: string | null;
  /** What the destination has. */
  readonly before: string | null;
  /** What the destination will have. */
  readonly after: string | null;
  /** The collision in this field. */
  readonly collision: string | null;
}

/** Something in an item that a person or a rule settles. */
export interface ItemCollision {
  readonly id: string;
  /** What collides, in words. */
  readonly words: string;
  readonly field: string | null;
  readonly allowed: readonly ('source' | 'destination' | 'edited')[];
  readonly settled: { readonly take: 'source' | 'destination' | 'edited'; readonly value: string | null } | null;
}

/** What becomes of an item. */
export type ItemOutcome = 'written' | 'needs-you' | 'kept' | 'left-out';

/** How a part of an item stands; an item stands as the part does that needs most. */
export interface Standing {
  readonly outcome: ItemOutcome;
  readonly fields: readonly ItemField[];
  readonly collisions: readonly ItemCollision[];
  readonly reason: string;
  /** What of it goes into the item's fingerprint: what a person who read it agreed to. */
  readonly standsFor: unknown;
}

/** Who changed a thing last and when (RFC 3339), as its row says; null where it does not. */
export interface Stamp {
  readonly at: string | null;
  readonly by: string | null;
}

/** When and by whom both ends were changed last; null where an end has no such thing, or does not say. */
export interface Changed {
  readonly source: Stamp | null;
  readonly destination: Stamp | null;
}

/** Of things that neither end dates. */
export const NOT_STAMPED: Changed = { source: null, destination: null };

const NOT_USED: readonly Amount[] = [];
const NO_COLLISIONS: readonly ItemCollision[] = [];

/** A thing that people know by a title, and what happens to it. */
export interface ChangedItem {
  readonly id: string;
  readonly kind: string;
  title: string;
  readonly key: string;
  /** Table or area. */
  readonly part: string;
  /** Only parts of it changed so far, so that its title is still to be found. */
  isUntitled: boolean;
  change: 'new' | 'changed' | 'deleted';
  readonly fields: ItemField[];
  collisions: readonly ItemCollision[];
  outcome: ItemOutcome;
  overwrites: boolean;
  reason: string;
  /** The item that cannot go without this one, where nobody chose this one itself. */
  takenAlongFor: string | null;
  /** What on the destination refers to it. */
  usedBy: readonly Amount[];
  /** Who last changed it on each end and when, where its row says so. */
  changed: Changed;
  /** Fingerprint of everything that would be written for it; empty where nothing about it is decided. */
  hash: string;
}

/** Counts of one table or area. */
export interface ChangedPart {
  readonly name: string;
  readonly type: 'table' | 'area';
  inserted: number;
  updated: number;
  deleted: number;
  bytes: number;
}

/** A stable hash of a text, handed in. */
export type TextDigest = (text: string) => string;

/** The item that a row is, or is a part of. */
export interface ItemOfRow {
  readonly id: string;
  readonly kind: string;
  readonly title: string;
  readonly key: string;
  /** Whether the row is the item's own, rather than a part of it. */
  readonly isOwner: boolean;
}

type RowValues = Readonly<Record<string, ByteString | null>>;

const FIELD_LENGTH = 400;
const MAX_FIELDS = 24;
/** Which standing counts for an item that has several. */
const NEED: readonly ItemOutcome[] = ['needs-you', 'written', 'left-out', 'kept'];
const CHANGES = { insert: 'new', update: 'changed', delete: 'deleted' } as const;

/** What the profile says of a table whose rows are items, or parts of them. */
interface TableOfItems {
  /** As people call it. */
  readonly called: string;
  readonly item: TableItemRule | undefined;
  /** Whether the item's title is. */
  readonly isPersonal: boolean;
  readonly part: ReturnType<typeof itemOfPart>;
  /** What keeps its items' ids apart from those of a table of the same name in another database. */
  readonly apart: string;
}

function describeTable(profile: Profile | undefined, table: TableName): TableOfItems {
  const [called, item, part] = [calledIn(profile, table), itemForTable(profile, table), itemOfPart(profile, table)];
  const rule = item ?? part?.item;
  // A rule that names its database is of one table only.
  const isOfOne = rule?.table.includes('/') === true || !called.includes('/');
  return {
    called,
    item,
    isPersonal: item !== undefined && isPersonalColumn(profile, item.table, item.title),
    part,
    apart: isOfOne ? '' : `${table.database}/`,
  };
}

/** Gathers row and file changes into the items that people know, by the rules of the profile. */
export class ItemCollector {
  readonly items = new Map<string, ChangedItem>();
  readonly parts = new Map<string, ChangedPart>();
  readonly #profile: Profile | undefined;
  /** What the profile says of tables, by {@link tableId}. */
  readonly #tables = new Map<string, TableOfItems>();
  /** The same by the names that were asked for. */
  readonly #described = new WeakMap<TableName, TableOfItems>();
  readonly #digest: TextDigest;
  /** The table of the change that was added last; most changes come table by table. */
  #last: { readonly database: string; readonly table: string; readonly called: string } | undefined;

  readonly #spell: (value: ByteString) => ByteString;

  /** @param spell what stands in keys and titles as people know it: with addresses in place */
  constructor(
    profile: Profile | undefined,
    digest: TextDigest,
    spell: (value: ByteString) => ByteString = (value) => value,
  ) {
    this.#profile = profile;
    this.#digest = digest;
    this.#spell = spell;
  }

  /**
   * Adds what happens to a row.
   *
   * @param row a row by which the item is found and titled
   * @param standing absent for a change that is written as it is
   * @param key the row's key as the source knows it, by which the item goes
   */
  addRow(change: RowChange, row: RowValues, overwrites: boolean, standing?: Standing, key: RowKey = change.key): void {
    this.addPart(
      change,
      this.ownerOf(tableOf(change), key, (column) => valueIn(row, column)),
      overwrites,
      standing,
    );
  }

  /** Adds what happens to a row, the item of which is known. */
  addPart(change: RowChange, owner: ItemOfRow, overwrites: boolean, standing?: Standing): void {
    const fields = standing?.fields ?? fieldsOf(change);
    const part = this.#calledIn(change);
    if (!standing || standing.outcome === 'written') {
      const counts = this.#part(part, 'table');
      if (change.op === 'insert') counts.inserted++;
      else if (change.op === 'update') counts.updated++;
      else counts.deleted++;
      for (const field of fields) counts.bytes += field.after?.length ?? 0;
    }
    const kind = owner.isOwner ? CHANGES[change.op] : 'changed';
    this.#merge(owner, { part, change: kind, overwrites }, fields, standing, change);
  }

  /** A change's table as people call it. */
  #calledIn({ database, table }: RowChange): string {
    if (this.#last?.database !== database || this.#last.table !== table)
      this.#last = { database, table, called: this.partOf(tableOf({ database, table })) };
    return this.#last.called;
  }

  addFile(area: string, change: FileChange, overwrites: boolean, standing?: Standing): void {
    const op = change.before.type === 'absent' ? 'new' : change.after.type === 'absent' ? 'deleted' : 'changed';
    if (!standing || standing.outcome === 'written') {
      const counts = this.#part(area, 'area');
      if (op === 'new') counts.inserted++;
      else if (op === 'changed') counts.updated++;
      else counts.deleted++;
      if (change.after.type === 'file') counts.bytes += change.after.size;
    }
    const owner = { ...this.fileItem(change.root, change.path), isOwner: true };
    this.#merge(owner, { part: area, change: op, overwrites }, [], standing, change);
  }

  /** The item that a file is. */
  fileItem(root: string, path: ByteString): { id: string; kind: string; title: string; key: string } {
    const text = toText(path);
    const rule = (this.#profile?.items ?? []).find((item) => 'files' in item && matchesPath(item.files, text));
    const kind = rule?.kind ?? 'file';
    return { id: `${kind}:${root}/${text}`, kind, title: text, key: text };
  }

  #merge(
    item: ItemOfRow,
    how: Pick<ChangedItem, 'part' | 'change' | 'overwrites'>,
    fields: readonly ItemField[],
    standing: Standing | undefined,
    change: Change,
  ): void {
    const known = this.items.get(item.id);
    const { outcome = 'written', collisions = NO_COLLISIONS, reason = '', standsFor = change } = standing ?? {};
    const stands = collisions.length > 0 ? [standsFor, collisions.map((one) => one.settled)] : standsFor;
    const hash = this.#digest(`${known?.hash ?? ''}${JSON.stringify(stands)}`);
    if (!known) {
      const { id, kind, title, key, isOwner } = item;
      const { part, change, overwrites } = how;
      this.items.set(id, {
        id,
        kind,
        title,
        key,
        part,
        change,
        overwrites,
        isUntitled: !isOwner,
        fields: [...fields],
        collisions,
        outcome,
        reason,
        takenAlongFor: null,
        usedBy: NOT_USED,
        changed: NOT_STAMPED,
        hash,
      });
      return;
    }
    if (item.isOwner) {
      known.title = item.title;
      known.isUntitled = false;
    }
    known.hash = hash;
    known.overwrites ||= how.overwrites;
    if (how.change !== 'changed') known.change = how.change;
    known.fields.push(...fields.slice(0, MAX_FIELDS - known.fields.length));
    if (collisions.length > 0) known.collisions = known.collisions.concat(collisions);
    if (NEED.indexOf(outcome) < NEED.indexOf(known.outcome)) {
      known.outcome = outcome;
      known.reason = reason;
    }
  }

  #part(name: string, type: 'table' | 'area'): ChangedPart {
    const known = this.parts.get(name) ?? { name, type, inserted: 0, updated: 0, deleted: 0, bytes: 0 };
    this.parts.set(name, known);
    return known;
  }

  /** A table as people call it. */
  partOf(table: TableName): string {
    return this.#of(table).called;
  }

  #of(table: TableName): TableOfItems {
    const same = this.#described.get(table);
    if (same) return same;
    const id = tableId(table);
    const known = this.#tables.get(id) ?? describeTable(this.#profile, table);
    this.#tables.set(id, known);
    this.#described.set(table, known);
    return known;
  }

  /** The id of the item that the row with a key is; with its key as text. */
  itemId(table: TableName, key: string): string {
    const { called, item, apart } = this.#of(table);
    return item ? `${item.kind}:${apart}${key}` : `row:${called}:${key}`;
  }

  /** The item that a row belongs to. @param cell what the row holds in a column */
  ownerOf(table: TableName, rowKey: RowKey, cell: (column: string) => ByteString | null | undefined): ItemOfRow {
    const spelled = (value: ByteString): string => toText(this.#spell(value));
    const key = rowKey.map((value) => spelled(value ?? '')).join(' ');
    const { called, item, isPersonal, part, apart } = this.#of(table);
    if (item)
      return {
        id: this.itemId(table, key),
        kind: item.kind,
        // A title goes into records, mails and calendars, where nobody asks who may see it.
        title: isPersonal ? `${item.kind} ${key}` : shorten(spelled(cell(item.title) ?? key)),
        key,
        isOwner: true,
      };
    const owner = part ? cell(part.column) : undefined;
    if (part && owner) {
      const { kind } = part.item;
      return {
        id: `${kind}:${apart}${spelled(owner)}`,
        kind,
        title: `${kind} ${spelled(owner)}`,
        key: spelled(owner),
        isOwner: false,
      };
    }
    return { id: this.itemId(table, key), kind: 'row', title: `${called} ${key}`, key, isOwner: true };
  }

  /** Counts by kind of the items that a test picks, largest first. */
  amounts(pick: (item: ChangedItem) => boolean): Amount[] {
    const counts = new Map<string, number>();
    for (const item of this.items.values()) if (pick(item)) counts.set(item.kind, (counts.get(item.kind) ?? 0) + 1);
    return [...counts]
      .map(([kind, count]) => ({ count, kind, plural: pluralOf(this.#profile, kind) }))
      .sort((a, b) => b.count - a.count);
  }

  /** One fingerprint over all items that are decided about; what is left out is not among them. */
  fingerprint(): string {
    const written = [...this.items.values()].filter(isDecidedAbout).sort((a, b) => (a.id < b.id ? -1 : 1));
    return this.#digest(written.map((item) => `${item.id} ${item.hash}`).join('\n'));
  }
}

/** Whether an item is written, collides, or stays since somebody said so: what a forecast stands for. */
export const isDecidedAbout = ({ outcome, collisions, hash }: Pick<ChangedItem, 'outcome' | 'collisions' | 'hash'>) =>
  outcome !== 'left-out' && hash !== '' && (outcome === 'written' || collisions.length > 0);

/** The plural of an item kind: the profile's, else by the common rule. */
export function pluralOf(profile: Profile | undefined, kind: string): string {
  const rule = (profile?.items ?? []).find((item) => item.kind === kind);
  return (
    rule?.plural ??
    (/(s|x|ch|sh)$/.test(kind) ? `${kind}es` : /[^aeiou]y$/.test(kind) ? `${kind.slice(0, -1)}ies` : `${kind}s`)
  );
}

const shorten = (text: string): string => (text.length > FIELD_LENGTH ? `${text.slice(0, FIELD_LENGTH)}…` : text);

/** A value as people read it. */
export const shownValue = (value: ByteString | null | undefined): string | null =>
  value === null || value === undefined ? null : shorten(toText(value));

function fieldsOf(change: RowChange): ItemField[] {
  const field = (name: string, before: ByteString | null, after: ByteString | null): ItemField => ({
    name,
    base: shownValue(before),
    source: shownValue(after),
    before: shownValue(before),
    after: shownValue(after),
    collision: null,
  });
  if (change.op === 'update')
    return Object.entries(change.cells).map(([name, cell]) => field(name, cell.before, cell.after));
  return Object.entries(change.row)
    .slice(0, MAX_FIELDS)
    .map(([name, value]) => (change.op === 'insert' ? field(name, null, value) : field(name, value, null)));
}
