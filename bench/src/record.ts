import { createHmac } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { Client } from '@tessarion/client';
import { PrivateCluster } from '@tessarion/cluster';
import { stampOf } from '@tessarion/core';
import { browser } from '@tessarion/demo';
import pg from 'pg';
import { type Installation, seconds } from './installation.js';
import { type Figure, figure, installShop, withInstallation } from './workloads.js';

const REQUESTS = Number(process.env.BENCH_REQUESTS ?? 10_000);
const ENTRIES = Number(process.env.BENCH_ENTRIES ?? 1_000_000);
const CALLS = 60;
const BATCH = 10_000;

/** Lists, filters and the check of every seal, with a long history behind them. */
export const longRecord = (): Promise<Figure> =>
  withInstallation(async (on) => {
    await installShop(on);
    const { host, port, user, password } = await (await PrivateCluster.at(join(on.data, 'tessarion/records'))).start();
    const records = new pg.Client({ host, port, user, password, database: 'postgres' });
    await records.connect();
    const reviewer = await newcomer(on);
    await fillRequests(on, records, (await reviewer.call('me')).id);
    await fillJournal(on, records);
    await records.query('ANALYZE');
    await records.end();
    const times = {
      all: await p95(() => reviewer.call('requestList')),
      waiting: await p95(() => reviewer.call('requestList', { query: { whose: 'waiting' } })),
      mine: await p95(() => on.client.call('requestList', { query: { whose: 'mine', open: 'yes' } })),
      blocked: await p95(() => on.client.call('requestList', { query: { state: 'blocked' } })),
      words: await p95(() => on.client.call('requestList', { query: { find: 'no such words' } })),
      journal: await p95(() => on.client.call('journalList')),
      thing: await p95(() => on.client.call('journalList', { query: { thing: 'shop-17/live' } })),
      act: await p95(() => on.client.call('journalList', { query: { act: 'act7', outcome: 'refused' } })),
    };
    let faults = 0;
    const verify = await seconds(async () => {
      faults = (await on.client.call('journalVerify')).faults.length;
    });
    let bytes = 0;
    const writing = await seconds(async () => {
      for await (const piece of await on.client.call('journalExport', { query: { as: 'csv' } })) bytes += piece.length;
    });
    const list = Object.entries(times).map(([name, ms]) => `${name} ${ms.toFixed(0)} ms`);
    return figure(
      'long-record',
      verify,
      null,
      null,
      'lists p95 ≤ 100 ms, every seal checked in ≤ 30 s',
      `${REQUESTS} requests, ${ENTRIES} entries; p95 of ${CALLS} calls: ${list.join(', ')}; seals ${verify.toFixed(1)} s, ${faults} faults; written out as CSV (${(bytes / 1e6).toFixed(0)} MB) in ${writing.toFixed(0)} s`,
    );
  });

/** @returns milliseconds, through HTTP on loopback, JSON read and checked */
async function p95(call: () => Promise<unknown>): Promise<number> {
  const times: number[] = [];
  for (let i = 0; i < CALLS; i++) times.push((await seconds(call)) * 1000);
  return times.sort((a, b) => a - b)[Math.floor(CALLS * 0.95)] as number;
}

async function newcomer(on: Installation): Promise<Client> {
  const [mail, password] = ['lise.aune@copperlane.example', 'a password for the bench'];
  const { key } = await on.client.call('personInvite', {
    body: { name: 'Lise Aune', mail, role: 'reviewer', scope: 'everything' },
  });
  const open = new Client({ url: on.client.url });
  await open.call('invitationAccept', { body: { key, password } });
  const client = browser(on.client.url);
  await client.call('signIn', { body: { mail, password } });
  return client;
}

/** One request by the real operations, and as many like it. */
async function fillRequests(on: Installation, records: pg.Client, reviewer: string): Promise<void> {
  const { databases } = await on.client.call('environmentShow', { params: { site: 'shop', environment: 'staging' } });
  const copy = new pg.Client({ ...on.server, database: databases[0] as string });
  await copy.connect();
  await copy.query("UPDATE product SET title = 'Other' WHERE id <= 20");
  await copy.end();
  const { id } = await on.client.call('forecastCreate', { body: { from: 'shop/staging', onto: 'shop/live' } });
  while ((await on.client.call('forecastShow', { params: { id } })).state === 'computing')
    await new Promise((resolve) => setTimeout(resolve, 50));
  const one = await on.client.call('requestOpen', {
    body: { forecast: id, title: 'Like all others', reviewers: [{ person: reviewer }] },
  });
  const name = "'q-' || lpad(n::text, 10, '0')";
  const series = 'generate_series(1, $2::int) AS n';
  const columns = 'site, from_path, onto_path, title, description, author, updated_at, revision, forecast';
  const states =
    "(ARRAY['in-review', 'returned', 'approved', 'blocked', 'delivered', 'delivered', 'withdrawn'])[n % 7 + 1]";
  const ask = [
    `INSERT INTO change_request (id, state, created_at, ${columns})
     SELECT ${name}, ${states}, created_at - n * interval '1 minute', ${columns} FROM change_request, ${series} WHERE id = $1`,
    `INSERT INTO request_revision (request_id, number, forecast, at, person_id, items)
     SELECT ${name}, number, forecast, at, person_id, items FROM request_revision, ${series} WHERE request_id = $1`,
    `INSERT INTO request_reviewer (request_id, person_id)
     SELECT ${name}, person_id FROM request_reviewer, ${series} WHERE request_id = $1 AND n % 3 = 0`,
    `INSERT INTO request_comment (id, request_id, thread, revision, person_id, text, at)
     SELECT 'c-' || lpad(n::text, 10, '0'), ${name}, 'c-' || lpad(n::text, 10, '0'), 1, author, 'Why?', created_at
     FROM change_request, ${series} WHERE id = $1`,
  ];
  for (const sql of ask) await records.query(sql, [one.id, REQUESTS]);
}

/** Entries as the service writes them, sealed by the service itself. */
async function fillJournal(on: Installation, records: pg.Client): Promise<void> {
  const master = Buffer.from((await fs.readFile(join(on.data, 'tessarion/master.key'), 'utf8')).trim(), 'hex');
  const key = createHmac('sha256', master).update('journal').digest();
  const digest = (text: string): string => createHmac('sha256', key).update(text).digest('hex');
  const start = Date.now() - ENTRIES * 100;
  for (let from = 0; from < ENTRIES; from += BATCH) {
    const rows = Array.from({ length: Math.min(BATCH, ENTRIES - from) }, (_one, i) => {
      const n = from + i;
      const entry = {
        id: `j-${String(n).padStart(10, '0')}`,
        at: new Date(start + n * 100).toISOString(),
        actor: `person p-${String(n % 40).padStart(10, '0')}`,
        act: `act${n % 50}`,
        outcome: n % 97 === 0 ? ('refused' as const) : ('done' as const),
        thing: `shop-${n % 600}/live`,
        details: `{"transfer":"t-${String(n).padStart(10, '0')}"}`,
        side: '',
      };
      return { ...entry, stamp: stampOf(entry, digest) };
    });
    await records.query(
      `INSERT INTO journal_entry (id, at, actor, act, outcome, thing, details, side, stamp)
       SELECT * FROM json_to_recordset($1::json)
         AS r(id text, at timestamptz, actor text, act text, outcome text, thing text, details text, side text, stamp text)`,
      [JSON.stringify(rows)],
    );
  }
  for (;;) {
    const { rows } = await records.query('SELECT count(*)::int AS waiting FROM journal_entry WHERE position IS NULL');
    if ((rows[0] as { waiting: number }).waiting < 100) return;
    await new Promise((resolve) => setTimeout(resolve, 1000));
  }
}
