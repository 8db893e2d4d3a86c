import { addTo } from '../../multimap.js';
import type { DataClass } from '../schema.js';
import type { Suggestion, TableFacts } from './facts.js';
import { plural, wordsOf } from './names.js';
import type { ReferenceRule } from './references.js';

/** A kind of item that a first profile could have, as it is written there. */
export interface ItemSuggestion {
  readonly kind: string;
  readonly plural?: string;
  readonly table: string;
  readonly title: string;
  readonly dependants?: { table: string; column: string }[];
  readonly changed?: { at: string; by?: string };
}

const TITLES = ['title', 'name', 'headline', 'label', 'subject', 'heading', 'caption', 'slug', 'code', 'key'];
const CHANGED_AT = /^(updated|modified|changed|last_modified|date_modified)(_at|_on|_date)?$/;
const CHANGED_BY = /^(updated|modified|changed)_by$|^last_editor$/;
const KIND_LENGTH = 32;

/** What people would call a thing: tables with a title, and the tables that only hold parts of such things. */
export function suggestItems(
  tables: readonly TableFacts[],
  classes: ReadonlyMap<string, Suggestion<DataClass>>,
  references: readonly Suggestion<ReferenceRule>[],
): Suggestion<ItemSuggestion>[] {
  const classOf = (name: string): string => classes.get(name)?.value ?? 'unclassified';
  /** What visitors made often has no title; people then speak of its number. */
  const titleOf = (table: TableFacts): string | undefined =>
    TITLES.map(
      (title) => table.columns.find((column) => column.name.toLowerCase() === title && column.isText)?.name,
    ).find((name) => name !== undefined) ?? (classOf(table.name) === 'collected' ? table.key[0] : undefined);
  const isTaken = (table: TableFacts): boolean => ['authored', 'collected'].includes(classOf(table.name));
  const titled = tables.filter((table) => isTaken(table) && table.key.length === 1 && titleOf(table) !== undefined);
  const parts = new Map<string, { table: string; column: string }[]>();
  for (const table of tables) {
    if (!isTaken(table)) continue;
    const known = [
      ...table.references.map(({ column, table: to }) => ({ column, to })),
      ...references
        .filter((one) => one.certainty !== 'open' && one.value.path === undefined && one.value.when === undefined)
        .filter((one) => one.value.from.startsWith(`${table.name}.`))
        .map((one) => ({
          column: one.value.from.slice(table.name.length + 1),
          to: one.value.to.slice(0, one.value.to.lastIndexOf('.')),
        })),
    ];
    // A part goes by the name of its whole, or has neither a key of its own alone nor a title.
    const whole = known.find(
      ({ to, column }) =>
        to !== table.name &&
        classOf(to) === classOf(table.name) &&
        titled.some((one) => one.name === to) &&
        !table.columns.find((one) => one.name === column)?.isNullable &&
        (titleOf(table) === undefined ||
          wordsOf(table.name)
            .join(' ')
            .startsWith(`${wordsOf(to).join(' ')} `)),
    );
    if (whole) addTo(parts, whole.to, { table: table.name, column: whole.column });
  }
  const isPart = new Set([...parts.values()].flat().map((one) => one.table));
  const kinds = new Set<string>();
  return titled
    .filter((table) => !isPart.has(table.name))
    .map((table): Suggestion<ItemSuggestion> => {
      const words = wordsOf(table.name);
      let kind =
        words
          .join('-')
          .replace(/^[^a-z]+/, '')
          .slice(0, KIND_LENGTH) || 'thing';
      if (kinds.has(kind)) kind = `${kind.slice(0, KIND_LENGTH - 2)}-2`;
      kinds.add(kind);
      const many = plural(kind);
      const title = titleOf(table) as string;
      const column = (pattern: RegExp): string | undefined =>
        table.columns.find((one) => pattern.test(one.name.toLowerCase()))?.name;
      const [at, by] = [column(CHANGED_AT), column(CHANGED_BY)];
      const dependants = parts.get(table.name);
      return {
        value: {
          kind,
          ...(many === `${kind}s` ? {} : { plural: many }),
          table: table.name,
          title,
          ...(dependants ? { dependants } : {}),
          ...(at === undefined ? {} : { changed: { at, ...(by === undefined ? {} : { by }) } }),
        },
        certainty: ['title', 'name'].includes(title.toLowerCase()) ? 'sure' : 'likely',
        reason: `it has ${title}`,
      };
    });
}

const NATURAL = ['slug', 'handle', 'code', 'sku', 'key', 'path', 'permalink', 'identifier', 'name'];

/** The columns by which people know a thing on both ends: a unique one beside a drawn key. */
export function suggestNaturalKey(table: TableFacts): Suggestion<string[]> | undefined {
  if (!table.drawsKey) return undefined;
  const candidates = table.uniques.filter((columns) => !columns.every((one) => table.key.includes(one)));
  const named = candidates.find((columns) => columns.some((one) => NATURAL.includes(one.toLowerCase())));
  return named && { value: [...named], certainty: 'likely', reason: `${named.join(' and ')} must be unique` };
}
