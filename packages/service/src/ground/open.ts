import createKnex, { type Knex } from 'knex';
import pg from 'pg';

// Counts and sizes fit a JavaScript number; ids of events are compared as numbers too.
pg.types.setTypeParser(20, Number);

/** The database that holds what the service knows. */
export type Records = Knex;
/** The records themselves, or one transaction on them. */
export type OnRecords = Knex | Knex.Transaction;

/** Opens the records' database. */
export function openRecords(url: string, connections = 10): Records {
  return createKnex({
    client: 'pg',
    connection: { connectionString: url, application_name: 'tessarion records' },
    pool: { min: 0, max: connections },
  });
}

/** JSON for a jsonb column; Knex would take arrays for PostgreSQL arrays. */
export const json = (value: unknown): string => JSON.stringify(value);

/** A moment as the interface writes it. */
export const iso = (date: Date | null): string | null => (date === null ? null : date.toISOString());
