import { isChosen, isNamed, type Selectable } from '../merge/choice.js';
import type { RowOutcome } from '../merge/compare-table.js';
import { calledIn } from '../profile/named-tables.js';
import type { Profile } from '../profile/schema.js';
import { toText } from '../rows/condition.js';
import { tableOf } from '../table-name.js';
import type { Change } from '../transfer/change.js';
import type { ItemCollector } from '../transfer/items.js';
import { counted } from '../transfer/sentence.js';
import type { StrayAddress } from '../transfer/stray-addresses.js';
import type { ComparedEnvironments, DatabaseDifference, ForecastEnd } from './comparison.js';
import { maskCheck } from './mask-check.js';
import { type Misfit, misfitText } from './misfit.js';
import type { SchemaChange } from './schema-items.js';
import type { Check, TouchedTable, TransferWishes } from './shapes.js';
/** Tables that are written, with the rows and the triggers that fire on them; most first. */
export function touchedTables(
  changes: readonly Change[],
  triggers: ReadonlyMap<string, readonly string[]>,
  profile: Profile | undefined,
): TouchedTable[] {
  const rows = new Map<string, { readonly table: string; rows: number }>();
  for (const change of changes) {
    if (change.part !== 'row') continue;
    const id = `${change.database}/${change.table}`;
    const counted = rows.get(id) ?? { table: calledIn(profile, tableOf(change)), rows: 0 };
    counted.rows++;
    rows.set(id, counted);
  }
  return [...rows]
    .map(([id, counted]) => ({ ...counted, triggers: [...(triggers.get(id) ?? [])] }))
    .sort((a, b) => b.rows - a.rows);
}

/** Changes without what is written to tables and columns that are still to be made: they are made for it. */
export function withoutNewPlaces(
  changes: readonly Change[],
  differences: readonly DatabaseDifference[],
  taken: readonly SchemaChange[],
): Change[] {
  const made = differences.filter((one) => taken.some((each) => each.id === one.id));
  if (made.length === 0) return [...changes];
  return changes.flatMap((change): Change[] => {
    if (change.part !== 'row') return [change];
    const here = made.filter((one) => one.database === change.database && one.table === change.table);
    if (here.some((one) => one.what === 'table')) return [];
    const isOld = ([name]: readonly [string, unknown]): boolean => !here.some((one) => one.name === name);
    return change.op === 'update'
      ? [{ ...change, cells: Object.fromEntries(Object.entries(change.cells).filter(isOld)) }]
      : [{ ...change, row: Object.fromEntries(Object.entries(change.row).filter(isOld)) }];
  });
}

/** @param remedy what to do when something was found */
export function fitCheck(found: readonly Misfit[], passed: string, remedy: string): Check {
  if (found.length === 0) return { name: 'values', state: 'passed', message: passed };
  const named = found.slice(0, SHOWN_MISFITS).map(misfitText).join('; ');
  const more = found.length > SHOWN_MISFITS ? `; and ${found.length - SHOWN_MISFITS} more` : '';
  return { name: 'values', state: 'failed', message: `What would not fit: ${named}${more}.`, remedy };
}

const SHOWN_MISFITS = 5;

/** Addresses of another environment in what would be written, which nobody translates. */
export function strayCheck(found: readonly StrayAddress[], profile: Profile | undefined): Check {
  const where = found
    .slice(0, SHOWN_MISFITS)
    .map(
      ({ host, table, key, column }) =>
        `${host} in ${calledIn(profile, table)} ${key.map((one) => toText(one ?? '')).join(' ')}, ${column}`,
    );
  return {
    name: 'addresses',
    state: 'warning',
    message: `${found.length === 1 ? 'One value holds' : `${found.length} values hold`} the address of another environment, which nobody rewrites: ${where.join('; ')}${found.length > SHOWN_MISFITS ? '; and more' : ''}.`,
    remedy: 'Correct them where they come from.',
  };
}

/** Values that are written and in which keys were to be followed, and which nobody can read; none where all can be read. */
export function unreadCheck(written: readonly RowOutcome[], profile: Profile | undefined): Check[] {
  const found = new Map<string, number>();
  for (const { table, raw } of written) {
    if (!raw.source) continue;
    for (const { column, inside, when } of table.uses) {
      const value = raw.source[column];
      if (!inside || typeof value !== 'string' || (when && !when(raw.source)) || inside.isReadable(value)) continue;
      const place = `${calledIn(profile, table.name)}.${table.columns[column]}`;
      found.set(place, (found.get(place) ?? 0) + 1);
    }
  }
  if (found.size === 0) return [];
  const where = [...found].map(([place, count]) => `${counted(count, 'value')} of ${place}`).join(', ');
  return [
    {
      name: 'keys inside values',
      state: 'warning',
      message: `Keys of other rows are to be followed in them, and they cannot be read: ${where}.`,
      remedy: 'Look at them where they come from; a number in them may mean another row on the destination.',
    },
  ];
}

/** What a comparison must say before anything is written: what is not classified, differs in its make, or was misspelt. */
export function checksOf(
  comparison: ComparedEnvironments,
  from: ForecastEnd,
  destination: ForecastEnd,
  { wishes, follows = false }: { readonly wishes: TransferWishes; readonly follows?: boolean },
  selectable: Iterable<Selectable>,
  collector: ItemCollector,
): Check[] {
  const checks: Check[] = [];
  const tables: Selectable[] = [];
  for (const note of comparison.notes) {
    if (note.type !== 'unclassified' && note.type !== 'schema') continue;
    const table: Selectable = { id: `table:${note.table}`, kind: 'table', part: note.table, path: undefined };
    tables.push(table);
    const isLeftOut = !isChosen(wishes, table);
    if (note.type === 'unclassified')
      checks.push({
        name: 'unclassified tables',
        state: isLeftOut ? 'warning' : 'failed',
        message: `${note.table} changed on ${from.path} (${counted(note.rows, 'row')}), and nobody has said what class it is${isLeftOut ? '; it is left out' : ''}.`,
        remedy: `Give it a class: tessarion profile classify ${destination.site} ${note.table} CLASS${isLeftOut ? '' : `; or leave it out: --except ${table.id}`}`,
      });
    else
      checks.push({
        name: 'schema',
        state: isLeftOut ? 'warning' : 'failed',
        message: `The schemas differ: ${note.message}${isLeftOut ? '; it is left out' : ''}.`,
        remedy: `Bring both ends to the same schema first${isLeftOut ? '' : `, or leave it out: --except ${table.id}`}.`,
      });
  }
  const masks = comparison.notes.flatMap((note) => (note.type === 'mask' ? [note.broken] : []));
  if (masks.length > 0) checks.push(maskCheck(masks));
  for (const note of comparison.notes)
    if (note.type === 'reference')
      checks.push({
        name: 'references',
        state: 'failed',
        message: `The profile says that ${note.from} refers to ${note.to}, and ${destination.path} has no ${note.missing}.`,
        remedy: 'Correct the reference in the profile, or take it out.',
      });
  if (!checks.some((check) => check.name === 'schema'))
    checks.push({
      name: 'schema',
      state: 'passed',
      message:
        comparison.schema.length === 0
          ? 'Both ends have the same tables and columns.'
          : 'Where the tables of both ends differ, it is listed.',
    });
  // They were right when they were made; what they name may have come to its end by another way.
  if (follows) return checks;
  const { only, except, settlements } = wishes;
  const items = [...selectable, ...tables];
  const nothing = [...only, ...except].filter((selector) => !items.some((one) => isNamed(selector, one)));
  if (nothing.length > 0)
    checks.push({
      name: 'choice',
      state: 'failed',
      message: `Nothing that changed is named by ${nothing.join(', ')}.`,
      remedy:
        'List what changed, and name it by its id: KIND:KEY, KIND:*, table:NAME, area:NAME, path:PATTERN, by:PERSON or since:TIME.',
    });
  const ended = Object.keys(settlements).filter((name) => !collides(collector, name));
  // What another decision has left out since waits with what was decided about it.
  const waits = ended.filter((name) =>
    [...collector.items.values()].some(
      (item) => item.outcome === 'left-out' && (name === item.id || name.startsWith(`${item.id}/`)),
    ),
  );
  const idle = ended.filter((name) => !waits.includes(name));
  if (idle.length > 0)
    checks.push({
      name: 'decisions',
      state: 'failed',
      message: `Nothing collides in ${idle.join(', ')}.`,
      remedy: 'Take the decision back, or settle one of the collisions that the forecast lists.',
    });
  if (waits.length > 0)
    checks.push({
      name: 'decisions',
      state: 'warning',
      message: `What was decided about ${waits.join(', ')} has no effect now, since it does not go along.`,
      remedy: 'Choose it as well, or take the decision back.',
    });
  return checks;
}

/** New rows that would have nothing in a column, since its type is another one on the destination. */
export function unlikeColumnsCheck(
  schema: ComparedEnvironments['schema'],
  changes: readonly Change[],
  destination: string,
): Check[] {
  return schema.flatMap((one): Check[] => {
    if (one.what !== 'column' || one.is !== 'unlike' || one.isReadAlike) return [];
    const rows = changes.filter(
      (change) =>
        change.part === 'row' &&
        change.op === 'insert' &&
        change.database === one.database &&
        change.table === one.table,
    ).length;
    if (rows === 0) return [];
    return [
      {
        name: 'columns of another type',
        state: 'failed',
        message: `${counted(rows, 'new row')} of ${one.label} would have nothing in ${one.name}, which is of another type on ${destination}.`,
        remedy: `Give it one type on both ends first, or leave them out: --except table:${one.label}`,
      },
    ];
  });
}

const collides = (collector: ItemCollector, name: string): boolean =>
  [...collector.items.values()].some((item) =>
    item.collisions.some((one) => one.id === name || one.id.startsWith(`${name}/`)),
  );
