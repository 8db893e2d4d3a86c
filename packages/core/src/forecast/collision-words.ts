import type { Collision } from '../merge/collision.js';
import { calledIn } from '../profile/named-tables.js';
import { toText } from '../rows/condition.js';
import { readTableId } from '../table-name.js';
import type { ForecastEnd } from './comparison.js';

/** Says in one sentence what collides. */
export function collisionWords(
  { outcome, column, why }: Collision,
  { name, profile }: Pick<ForecastEnd, 'name' | 'profile'>,
): string {
  const tableName = (id: string): string => calledIn(profile, readTableId(id));
  const own = `${tableName(outcome.table.id)} ${outcome.sourceKey.map((one) => toText(one ?? '')).join(' ')}`;
  switch (why.is) {
    case 'both-changed':
      return `Both ends changed ${column === undefined ? own : outcome.table.columns[column]}.`;
    case 'changed-and-gone':
      return `It was changed, and ${name} deleted it.`;
    case 'gone-and-changed':
      return `It was deleted, and ${name} changed it.`;
    case 'gone-and-collected':
      return `It was deleted, and visitors of ${name} changed what they count in it.`;
    case 'referred':
      return `It cannot go: ${why.rows} ${why.rows === 1 ? 'row' : 'rows'} of ${calledIn(profile, why.by)} on ${name} ${why.rows === 1 ? 'refers' : 'refer'} to it.`;
    case 'referred-by-own':
      return `It cannot go: ${tableName(why.by)} ${toText(why.key)} of ${name} refers to it.`;
    case 'refers-to-gone':
      return `It refers to ${tableName(why.table)} ${toText(why.key)}, which ${name} does not have.`;
    case 'part-of-kept':
      return 'It stays with what it is a part of.';
    case 'taken': {
      const source = outcome.sides.source;
      const { columns, rules } = outcome.table;
      const wanted = why.columns.map((one) => {
        const at = columns.indexOf(one);
        // Words go into records, and are shown to everybody who may see the forecast.
        return rules.columns[at]?.mask === undefined ? `the ${one} “${toText(source?.[at] ?? '')}”` : `the same ${one}`;
      });
      return `It wants ${wanted.join(' and ')}, which ${tableName(outcome.table.id)} ${toText(why.key)} of ${name} has.`;
    }
  }
}
