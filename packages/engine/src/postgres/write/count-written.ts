import { counted, type RowChange, readTablePath, tableLabel, tablePath } from '@tessarion/core';
import type pg from 'pg';
import { EngineError } from '../../ports/errors.js';
import type { Counts, Mode, Remain } from '../../ports/rows.js';
import { quoteTable } from '../describe.js';
import { keyMatch, type StagedChanges, type StagedTable } from './staged-changes.js';

const DONE = { insert: 'inserted', update: 'updated', delete: 'deleted' } as const;

/** How many rows are to be written, now that it is known what is left out. */
export async function countMeant(client: pg.Client, tables: readonly StagedTable[], mode: Mode): Promise<Counts> {
  const meant = { inserted: 0, updated: 0, deleted: 0 };
  if (mode !== 'lenient') {
    // Nothing is left out; visitors are waiting, and what was staged is known.
    for (const { counts } of tables)
      for (const op of ['insert', 'update', 'delete'] as const) meant[DONE[op]] += counts[op];
    return meant;
  }
  for (const { temporary } of tables) {
    const rows = await client.query<{ op: RowChange['op']; count: string }>(
      `SELECT op, count(*)::text AS count FROM ${temporary} GROUP BY op`,
    );
    for (const { op, count } of rows.rows) meant[DONE[op]] += Number(count);
  }
  return meant;
}

/** A row that was meant and not written was swallowed by a trigger, or is one of several alike and gone meanwhile. */
export function compareWithMeant(tables: readonly StagedTable[], mode: Mode, applied: Counts, meant: Counts): Remain[] {
  const missing = (['inserted', 'updated', 'deleted'] as const).find((one) => applied[one] !== meant[one]);
  if (missing === undefined) return [];
  const areAlike = tables.filter((table) => table.shape.key.length === 0);
  const [alike] = areAlike.filter((table) => table.counts.delete > 0);
  if (mode === 'lenient' && missing === 'deleted' && alike)
    return [
      {
        table: tableLabel(alike.shape),
        key: counted(meant.deleted - applied.deleted, 'row'),
        what: 'is gone meanwhile',
      },
    ];
  throw new EngineError(
    'outdated',
    `${applied[missing]} rows were ${missing}, ${meant[missing]} were meant.`,
    'Make a new forecast; if it happens again, look for triggers that suppress rows.',
  );
}

/** How many rows this transaction has inserted, updated and deleted so far, by {@link tablePath}. */
export async function readCounters(client: pg.Client): Promise<Map<string, string>> {
  const rows = await client.query<{ schema: string; name: string; count: string }>(
    "SELECT schemaname AS schema, relname AS name, (n_tup_ins || ' ' || n_tup_upd || ' ' || n_tup_del) AS count FROM pg_catalog.pg_stat_xact_user_tables WHERE schemaname NOT LIKE 'pg\\_%'",
  );
  return new Map(rows.rows.map((row) => [tablePath(row), row.count]));
}

/**
 * A table that a trigger or cascade wrote, and that is not part of the change, stops everything; so does a row that is
 * none. A trigger may write once more to a row that the change wrote: what it made of it is read back.
 */
export async function compareCounters(
  staged: StagedChanges,
  before: ReadonlyMap<string, string>,
  applied: Counts,
  passing: number,
): Promise<void> {
  const { client } = staged;
  const split = (text: string | undefined): number[] => (text ?? '0 0 0').split(' ').map(Number);
  const written: Counts = { inserted: 0, updated: 0, deleted: 0 };
  const touched: StagedTable[] = [];
  for (const [name, now] of await readCounters(client)) {
    const former = split(before.get(name));
    const [inserted = 0, updated = 0, deleted = 0] = split(now).map((count, i) => count - (former[i] ?? 0));
    const delta = inserted + updated + deleted;
    const table = staged.get(name);
    if (delta > 0 && !table) {
      throw new EngineError(
        'outdated',
        `Writing would also change ${counted(delta, 'row')} of ${tableLabel(readTablePath(name))}, by a trigger or cascade that the profile does not name.`,
        'Describe the table in the profile, or change the trigger.',
      );
    }
    written.inserted += inserted;
    written.updated += updated;
    written.deleted += deleted;
    if (delta > 0 && table) touched.push(table);
  }
  const meant = { ...applied, updated: applied.updated + passing };
  const differs = (['inserted', 'deleted', 'updated'] as const).find((one) => written[one] !== meant[one]);
  if (differs === undefined) return;
  const strangers = differs === 'updated' && written.updated > meant.updated ? await strangersIn(client, touched) : [];
  if (differs === 'updated' && written.updated > meant.updated && strangers.length === 0) return;
  throw new EngineError(
    'outdated',
    `${written[differs]} rows would be ${differs}, ${meant[differs]} were meant${strangers.length > 0 ? `; others are in ${strangers.join(', ')}` : ''}.`,
    'Look for triggers that write or suppress rows.',
  );
}

/** Tables in which this transaction wrote rows that are no part of the change. */
async function strangersIn(client: pg.Client, tables: readonly StagedTable[]): Promise<string[]> {
  const found: string[] = [];
  for (const table of tables) {
    // A row that is seen, and whose transaction is still open, was written here, in this transaction or below it.
    const result = await client.query<{ count: string }>(
      `SELECT count(*)::text AS count FROM ONLY ${quoteTable(table.shape)} t
        WHERE age(t.xmin) <= age(pg_current_xact_id()::xid)
          AND pg_xact_status(((pg_current_xact_id()::text::bigint >> 32 << 32) + t.xmin::text::bigint)::text::xid8) = 'in progress'
          AND NOT EXISTS (SELECT FROM ${table.temporary} s WHERE s.op <> 'delete' AND ${keyMatch(table)})`,
    );
    if (result.rows[0]?.count !== '0') found.push(tableLabel(table.shape));
  }
  return found;
}
