import type pg from 'pg';
import { to as copyTo } from 'pg-copy-streams';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { connectTo } from '../src/postgres/connect.js';
import { borrowSession } from '../src/postgres/sessions.js';
import { Yard } from './support/pair.js';

let yard: Yard;
const login = (database = 'postgres') => ({ ...yard.server, database });

beforeAll(async () => {
  yard = await Yard.open();
});
afterAll(() => yard.close());

const pidOf = async (client: pg.Client): Promise<number> =>
  (await client.query<{ pid: number }>('SELECT pg_backend_pid() AS pid')).rows[0]?.pid as number;

it('lends again what was given back, with nothing left in it of what was begun', async () => {
  const first = await borrowSession(login(), 'write', 'keys');
  const pid = await pidOf(first);
  await first.query('CREATE TEMP TABLE left_over (a int); SELECT pg_advisory_lock(7); SET search_path TO public');
  await first.query("BEGIN; SET statement_timeout = '1ms'");
  await first.giveBack();

  const second = await borrowSession(login(), 'read', 'compare');
  expect(await pidOf(second)).toBe(pid);
  const { rows } = await second.query(
    `SELECT to_regclass('pg_temp.left_over') AS temporary, (SELECT count(*)::int FROM pg_locks WHERE locktype = 'advisory') AS locks,
      current_setting('search_path') AS path, current_setting('statement_timeout') AS statement,
      current_setting('lock_timeout') AS lock, current_setting('TimeZone') AS zone, current_setting('application_name') AS name`,
  );
  expect(rows[0]).toEqual({
    temporary: null,
    locks: 0,
    path: '""',
    statement: '0',
    lock: '0',
    zone: 'UTC',
    name: 'tessarion compare',
  });
  await second.giveBack();
  const third = await borrowSession(login(), 'write', 'transfer t-1 2');
  expect((await third.query("SELECT current_setting('lock_timeout') AS lock")).rows[0]?.lock).toBe('5s');
  await third.giveBack();
});

it('tidies up after a statement that failed within a transaction', async () => {
  const first = await borrowSession(login(), 'read', 'compare');
  const pid = await pidOf(first);
  await first.query('BEGIN');
  await expect(first.query('SELECT 1 / 0')).rejects.toThrow(/division by zero/);
  await first.giveBack();
  const second = await borrowSession(login(), 'read', 'compare');
  expect(await pidOf(second)).toBe(pid);
  await second.giveBack();
});

it('lends each to one at a time, and to nobody with another database', async () => {
  const [one, two] = [await borrowSession(login(), 'read', 'a'), await borrowSession(login(), 'read', 'b')];
  const pids = [await pidOf(one), await pidOf(two)];
  expect(new Set(pids).size).toBe(2);
  await Promise.all([one.giveBack(), two.giveBack()]);
  const other = await borrowSession(login('template1'), 'read', 'c');
  expect(pids).not.toContain(await pidOf(other));
  await other.giveBack();
});

it('does not lend a session that the server has ended', async () => {
  const first = await borrowSession(login(), 'read', 'a');
  const pid = await pidOf(first);
  await first.giveBack();
  const admin = await connectTo(login(), 'read', 'admin');
  await admin.query(
    "SELECT pg_terminate_backend(pid, 5000) FROM pg_stat_activity WHERE application_name = 'tessarion waits'",
  );
  await admin.end();
  const second = await borrowSession(login(), 'read', 'b');
  expect(await pidOf(second)).not.toBe(pid);
  await second.giveBack();
});

it('ends a session with rows on their way that nobody fetches', async () => {
  const first = await borrowSession(login(), 'read', 'a');
  const pid = await pidOf(first);
  const rows = first.query(copyTo("COPY (SELECT repeat('x', 1000) FROM generate_series(1, 1000000)) TO STDOUT"));
  rows.on('error', () => undefined);
  await new Promise((resolve) => rows.once('readable', resolve));
  await first.giveBack();
  const second = await borrowSession(login(), 'read', 'b');
  expect(await pidOf(second)).not.toBe(pid);
  await second.giveBack();
});

it('keeps only a few that wait', async () => {
  const many = await Promise.all(Array.from({ length: 12 }, () => borrowSession(login(), 'read', 'many')));
  await Promise.all(many.map((one) => one.giveBack()));
  const admin = await connectTo(login(), 'read', 'admin');
  const waiting = async (): Promise<unknown> =>
    (
      await admin.query(
        "SELECT count(*)::int AS waiting FROM pg_stat_activity WHERE application_name = 'tessarion waits' AND datname = current_database()",
      )
    ).rows[0]?.waiting;
  // Those that were ended take a moment to go.
  await expect.poll(waiting).toBe(4);
  await admin.end();
});
