import type { ByteString } from '../address/place.js';
import { matchesPath } from '../profile/rules.js';
import type { Profile } from '../profile/schema.js';
import { toText } from '../rows/condition.js';
import type { Change, FileChange, RowChange } from './change.js';
import type { Amount } from './sentence.js';

/** A thing that people know by a title, and what happens to it. */
export interface ChangedItem {
  readonly id: string;
  readonly kind: string;
  readonly title: string;
  readonly key: string;
  /** Table or area. */
  readonly part: string;
  change: 'new' | 'changed' | 'deleted';
  readonly fields: { name: string; before: string | null; after: string | null }[];
  readonly outcome: 'written' | 'kept';
  overwrites: boolean;
  readonly reason: string;
  /** Fingerprint of everything that would be written for it. */
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

type RowValues = Readonly<Record<string, ByteString | null>>;

const FIELD_LENGTH = 400;
const MAX_FIELDS = 24;
const CHANGES = { insert: 'new', update: 'changed', delete: 'deleted' } as const;

/** Gathers row and file changes into the items that people know, by the rules of the profile. */
export class ItemCollector {
  readonly items = new Map<string, ChangedItem>();
  readonly parts = new Map<string, ChangedPart>();
  readonly #profile: Profile | undefined;
  readonly #digest: TextDigest;

  constructor(profile: Profile | undefined, digest: TextDigest) {
    this.#profile = profile;
    this.#digest = digest;
  }

  /** @param part the table as the profile calls it */
  addRow(part: string, change: RowChange, row: RowValues, overwrites: boolean): void {
    const counts = this.#part(part, 'table');
    if (change.op === 'insert') counts.inserted++;
    else if (change.op === 'update') counts.updated++;
    else counts.deleted++;
    const owner = this.#ownerOf(part, change.key.map((value) => toText(value ?? '')).join(' '), row);
    const fields = fieldsOf(change);
    for (const field of fields) counts.bytes += field.after?.length ?? 0;
    this.#merge(
      {
        ...owner,
        part,
        change: owner.isOwner ? CHANGES[change.op] : 'changed',
        fields,
        outcome: 'written',
        overwrites,
        reason: '',
        hash: '',
      },
      change,
    );
  }

  addKept(part: string, key: readonly (ByteString | null)[], row: RowValues, reason: string): void {
    const owner = this.#ownerOf(part, key.map((value) => toText(value ?? '')).join(' '), row);
    this.items.set(owner.id, {
      ...owner,
      part,
      change: 'deleted',
      fields: [],
      outcome: 'kept',
      overwrites: false,
      reason,
      hash: '',
    });
  }

  addFile(area: string, change: FileChange, overwrites: boolean): void {
    const counts = this.#part(area, 'area');
    const op = change.before.type === 'absent' ? 'new' : change.after.type === 'absent' ? 'deleted' : 'changed';
    if (op === 'new') counts.inserted++;
    else if (op === 'changed') counts.updated++;
    else counts.deleted++;
    if (change.after.type === 'file') counts.bytes += change.after.size;
    const path = toText(change.path);
    const rule = (this.#profile?.items ?? []).find((item) => 'files' in item && matchesPath(item.files, path));
    const kind = rule?.kind ?? 'file';
    this.#merge(
      {
        id: `${kind}:${change.root}/${path}`,
        kind,
        title: path,
        key: path,
        part: area,
        change: op,
        fields: [],
        outcome: 'written',
        overwrites,
        reason: '',
        hash: '',
      },
      change,
    );
  }

  #merge(item: ChangedItem, change: Change): void {
    const known = this.items.get(item.id);
    const hash = this.#digest(`${known?.hash ?? ''}${JSON.stringify(change)}`);
    if (!known) {
      this.items.set(item.id, { ...item, hash });
      return;
    }
    known.hash = hash;
    known.overwrites ||= item.overwrites;
    if (item.change !== 'changed') known.change = item.change;
    known.fields.push(...item.fields.slice(0, MAX_FIELDS - known.fields.length));
  }

  #part(name: string, type: 'table' | 'area'): ChangedPart {
    const known = this.parts.get(name) ?? { name, type, inserted: 0, updated: 0, deleted: 0, bytes: 0 };
    this.parts.set(name, known);
    return known;
  }

  #ownerOf(
    table: string,
    key: string,
    row: RowValues,
  ): { id: string; kind: string; title: string; key: string; isOwner: boolean } {
    for (const item of this.#profile?.items ?? []) {
      if (!('table' in item)) continue;
      if (item.table === table)
        return {
          id: `${item.kind}:${key}`,
          kind: item.kind,
          title: shorten(toText(row[item.title] ?? key)),
          key,
          isOwner: true,
        };
      const dependant = item.dependants?.find((one) => one.table === table);
      const owner = dependant ? row[dependant.column] : undefined;
      if (owner)
        return {
          id: `${item.kind}:${toText(owner)}`,
          kind: item.kind,
          title: `${item.kind} ${toText(owner)}`,
          key: toText(owner),
          isOwner: false,
        };
    }
    return { id: `row:${table}:${key}`, kind: 'row', title: `${table} ${key}`, key, isOwner: true };
  }

  /** Counts by kind of the items that a test picks, largest first. */
  amounts(pick: (item: ChangedItem) => boolean): Amount[] {
    const counts = new Map<string, number>();
    for (const item of this.items.values()) if (pick(item)) counts.set(item.kind, (counts.get(item.kind) ?? 0) + 1);
    return [...counts]
      .map(([kind, count]) => ({ count, kind, plural: pluralOf(this.#profile, kind) }))
      .sort((a, b) => b.count - a.count);
  }

  /** One fingerprint over all items that would be written. */
  fingerprint(): string {
    const written = [...this.items.values()]
      .filter((item) => item.outcome === 'written')
      .sort((a, b) => (a.id < b.id ? -1 : 1));
    return this.#digest(written.map((item) => `${item.id} ${item.hash}`).join('\n'));
  }
}

/** The plural of an item kind: the profile's, else by the common rule. */
export function pluralOf(profile: Profile | undefined, kind: string): string {
  const rule = (profile?.items ?? []).find((item) => item.kind === kind);
  return (
    rule?.plural ??
    (/(s|x|ch|sh)$/.test(kind) ? `${kind}es` : /[^aeiou]y$/.test(kind) ? `${kind.slice(0, -1)}ies` : `${kind}s`)
  );
}

const shorten = (text: string): string => (text.length > FIELD_LENGTH ? `${text.slice(0, FIELD_LENGTH)}…` : text);

function fieldsOf(change: RowChange): ChangedItem['fields'] {
  const show = (value: ByteString | null): string | null => (value === null ? null : shorten(toText(value)));
  if (change.op === 'update')
    return Object.entries(change.cells).map(([name, cell]) => ({
      name,
      before: show(cell.before),
      after: show(cell.after),
    }));
  const isInsert = change.op === 'insert';
  return Object.entries(change.row)
    .slice(0, MAX_FIELDS)
    .map(([name, value]) => ({ name, before: isInsert ? null : show(value), after: isInsert ? show(value) : null }));
}
