import { placesOf } from './named-tables.js';
import { tablesOfItem } from './personal-fields.js';
import { ruleOfColumn, tableRule } from './rules.js';
import type { Profile, ShowAs } from './schema.js';

/** A field of an item as people read it: what it is called, and how its values are shown. */
export interface FieldLook {
  readonly label: string;
  readonly show: ShowAs;
  /** Keys and bookkeeping, which stand behind what people came for. */
  readonly isHidden: boolean;
}

/** An item's field with its values on all sides, as far as its look is asked for. */
interface FieldWithValues {
  readonly name: string;
  readonly base: string | null;
  readonly source: string | null;
  readonly before: string | null;
  readonly after: string | null;
}

interface ItemWithFields<Field extends FieldWithValues> {
  readonly kind: string;
  /** The table that it, or what changed of it, lies in. */
  readonly part: string;
  readonly fields: readonly Field[];
}

/**
 * Puts an item's fields in the order of the profile's columns, those that are hidden last, and says of each how people
 * read it: by the profile's `label`, `hidden` and `show`, else by what it is called and what it holds.
 */
export function shownFields<Field extends FieldWithValues>(
  profile: Profile | undefined,
  item: ItemWithFields<Field>,
): (Field & FieldLook)[] {
  const tables = [...tablesOfItem(profile, item)];
  const own = tables.flatMap((table) =>
    placesOf(profile, table).flatMap(({ database, label }) => tableRule(profile, database, label) ?? []),
  );
  const order = own.flatMap((rule) => Object.keys(rule.columns ?? {}));
  const books = new Set(
    (profile?.items ?? []).flatMap((rule) =>
      rule.kind === item.kind && 'table' in rule && rule.changed ? [rule.changed.at, rule.changed.by] : [],
    ),
  );
  const placeOf = (name: string): number => (order.includes(name) ? order.indexOf(name) : order.length);
  return item.fields
    .map((field) => {
      const rule = own.flatMap((one) => ruleOfColumn(one, field.name) ?? [])[0];
      const isKey = field.name === 'id' || own.some((one) => one.key?.includes(field.name));
      return {
        ...field,
        label: rule?.label ?? labelOf(field.name),
        show: rule?.show ?? showOf(field),
        isHidden: rule?.hidden ?? (isKey || books.has(field.name)),
      };
    })
    .sort((a, b) => Number(a.isHidden) - Number(b.isHidden) || placeOf(a.name) - placeOf(b.name));
}

/** `shipping_street` and `shippingStreet` as `Shipping street`. */
function labelOf(column: string): string {
  const words = column
    .replace(/([a-z\d])([A-Z])/g, '$1 $2')
    .replace(/[_-]+/g, ' ')
    .trim()
    .toLowerCase();
  return words === '' ? column : `${words.slice(0, 1).toUpperCase()}${words.slice(1)}`;
}

const TAG = /<\/?[a-z][a-z0-9-]*(?:\s[^<>]*)?\/?>/i;
const MOMENT = /^\d{4}-\d\d-\d\d[ T]\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d(?::?\d\d)?)?$/;
const PICTURE = /^[^\s<>"]+\.(?:png|jpe?g|gif|webp|avif|svg)$/i;
const AMOUNT = /^-?\d+\.\d{2}$/;
const PRICED = /(?:^|_)(?:price|total|subtotal|amount|cost|fee|sum|balance)(?:_|$)/i;

/** How values are shown of which nobody said it: by what they look like, all of them. */
function showOf({ name, base, source, before, after }: FieldWithValues): ShowAs {
  const values = [base, source, before, after].filter((value) => value !== null && value !== '') as string[];
  const all = (pattern: RegExp): boolean => values.length > 0 && values.every((value) => pattern.test(value));
  if (all(MOMENT)) return 'moment';
  if (all(PICTURE)) return 'picture';
  if (PRICED.test(name) && all(AMOUNT)) return 'money';
  return values.some((value) => TAG.test(value)) ? 'page' : 'text';
}
