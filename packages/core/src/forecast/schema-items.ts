import { isChosen, type Selectable } from '../merge/choice.js';
import type { Settlement } from '../merge/collision.js';
import { type ChangedItem, NOT_STAMPED } from '../transfer/items.js';
import type { DatabaseDifference, ForecastEnd } from './comparison.js';
import type { TransferWishes } from './shapes.js';

/** Whether the id of an item is that of a difference of tables. */
export const isSchemaId = (id: string): boolean => id.startsWith('schema:');

/** How a difference of tables is chosen: by its id, as `schema:*`, or with its table. */
export function schemaSelectable(id: string): Selectable {
  // That of a whole table is its name alone, in which there may be a dot or slash as well.
  const orPart = id.slice('schema:'.length);
  return { id, kind: 'schema', part: orPart.replace(/(\/|\.)[^./]*$/, ''), orPart, path: undefined };
}

/** A change of how a destination's table is made, as it is carried out. */
export interface SchemaChange {
  readonly id: string;
  readonly database: string;
  readonly statements: readonly string[];
  readonly revert: readonly string[];
  readonly isIndex: boolean;
}

const TITLES = {
  column: ({ label, name }: DatabaseDifference) => `${label}.${name}`,
  table: ({ label }: DatabaseDifference) => `table ${label}`,
  index: ({ label, name }: DatabaseDifference) => `index ${name} of ${label}`,
} as const;
const CHANGES = { added: 'new', missing: 'deleted', unlike: 'changed' } as const;

/**
 * A difference of how tables are made as an item of its own. What is new on the source is decided by a person, and never
 * by a rule for the rest; all else stays unless somebody takes it.
 *
 * @param wished what a person said of it
 */
export function schemaItem(
  one: DatabaseDifference,
  ends: { readonly from: ForecastEnd; readonly destination: ForecastEnd },
  wishes: TransferWishes,
  wished: Settlement | undefined,
  digest: (text: string) => string,
): ChangedItem {
  const [from, onto] = [ends.from.name, ends.destination.name];
  const title = TITLES[one.what](one);
  const said = wished && wished.take !== 'edited' ? wished.take : undefined;
  const rest = wishes.rest === 'destination' ? ('destination' as const) : undefined;
  const take =
    said === 'source' && one.canTake
      ? ('source' as const)
      : said === 'destination' || !one.isNews
        ? ('destination' as const)
        : rest;
  const words =
    one.is === 'added'
      ? `${title} is on ${from} and not on ${onto}. ${one.canTake ? one.entails : `It cannot be made there. ${one.entails}`}`
      : one.is === 'missing'
        ? `${title} is on ${onto} and not on ${from}. ${one.entails}`
        : `${title} is made otherwise on ${onto}. ${one.entails}`;
  const outcome = !isChosen(wishes, schemaSelectable(one.id))
    ? 'left-out'
    : take === undefined
      ? 'needs-you'
      : take === 'source'
        ? 'written'
        : 'kept';
  return {
    id: one.id,
    kind: 'schema',
    title,
    key: one.name,
    part: one.label,
    isUntitled: false,
    change: CHANGES[one.is],
    fields: [
      {
        name: 'made as',
        base: one.isNews ? null : one.destination,
        source: one.source,
        before: one.destination,
        after: outcome === 'written' ? one.source : one.destination,
        collision: null,
      },
    ],
    collisions: [
      {
        id: one.id,
        words,
        field: null,
        allowed: one.canTake ? ['source', 'destination'] : ['destination'],
        settled: take === undefined ? null : { take, value: null },
      },
    ],
    outcome,
    overwrites: false,
    reason: outcome === 'kept' || outcome === 'written' ? words : '',
    takenAlongFor: null,
    usedBy: [],
    changed: NOT_STAMPED,
    // Nobody decides about what is no news; it stays as it is.
    hash:
      outcome === 'kept' && !one.isNews && !said
        ? ''
        : digest(JSON.stringify([one.statements, one.source, one.destination, outcome])),
  };
}
