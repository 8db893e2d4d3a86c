import { type ColumnRule, checkProfile, type DataClass } from '@tessarion/core';
import type { JSX } from 'react';
import { Empty } from '../parts/states.js';
import { WideCell } from '../parts/table.js';

const CLASSES: readonly { readonly of: DataClass; readonly words: string }[] = [
  { of: 'authored', words: 'goes up, and comes down' },
  { of: 'collected', words: 'stays on live, and comes down masked' },
  { of: 'local', words: 'stays where it is' },
  { of: 'derived', words: 'is made anew' },
  { of: 'unclassified', words: 'stays until somebody says what it is' },
];

/** What a profile says of tables, class by class: keys, what is personal, and how people read it. */
export function ProfileTables({ text }: { readonly text: string }): JSX.Element {
  const checked = checkProfile(text);
  if (!checked.ok)
    return (
      <Empty title="These are lines of a layer">
        It stands on another profile. Look at it as it is composed to see its tables.
      </Empty>
    );
  const tables = Object.values(checked.profile.databases ?? {}).flatMap((database) => Object.entries(database.tables));
  return (
    <table>
      <thead>
        <tr>
          <th>Table</th>
          <th>Known by</th>
          <th>Masked on the way down</th>
          <th>Of another class</th>
          <th>Read as</th>
        </tr>
      </thead>
      {CLASSES.map(({ of, words }) => {
        const own = tables.filter(([, table]) => table.class === of);
        if (own.length === 0) return null;
        return (
          <tbody key={of}>
            <tr>
              <th className="static h-28 bg-course" colSpan={5} scope="rowgroup">
                <b className="text-ink">{of}</b> {words}
              </th>
            </tr>
            {own.map(([name, table]) => {
              const columns = Object.entries(table.columns ?? {});
              const masked = columns.filter(([, { personal }]) => personal !== undefined && personal !== 'keep');
              const others = columns.filter((one) => one[1].class !== undefined && one[1].class !== of);
              return (
                <tr key={name}>
                  <td className="mono">{name}</td>
                  <td className="mono text-ink2">{(table['natural-key'] ?? table.key ?? []).join(', ')}</td>
                  <td className="max-w-200 mono wrap-anywhere whitespace-normal text-ink2">
                    {masked.map(([column]) => column).join(', ')}
                  </td>
                  <td className="text-ink2">{others.map(([column, rule]) => `${column}: ${rule.class}`).join(', ')}</td>
                  <WideCell className="text-ink2" title={readAs(columns)}>
                    {readAs(columns)}
                  </WideCell>
                </tr>
              );
            })}
          </tbody>
        );
      })}
    </table>
  );
}

/** What a person reads of a table, in the order in which it is named. */
const readAs = (columns: readonly (readonly [string, ColumnRule])[]): string =>
  columns
    .filter(([, { label, show, hidden }]) => label ?? show ?? hidden)
    .map(([column, { label, show, hidden }]) =>
      hidden ? `${column} hidden` : `${label ?? column}${show === undefined ? '' : ` (${show})`}`,
    )
    .join(', ');
