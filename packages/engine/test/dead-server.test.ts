import type { SiteDatabase } from '@tessarion/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { RowApplication } from '../src/deliver/row-application.js';
import { connectTo } from '../src/postgres/connect.js';
import { PostgresView } from '../src/postgres/view.js';
import type { Environment } from '../src/site/environment.js';
import { rewriterOf } from '../src/site/environment.js';
import { profileOf, type Query, Yard } from './support/pair.js';

const PROFILE = profileOf(`
areas: [{ name: code, path: ., class: authored }]
databases: { main: { tables: { page: { class: authored } } } }
`);

let yard: Yard;
let live: { environment: Environment; query: Query };
beforeAll(async () => {
  yard = await Yard.open();
  live = await yard.environment('live', 'https://loom.example', PROFILE, {
    kind: 'live',
    sql: "CREATE TABLE page (id int PRIMARY KEY, title text); INSERT INTO page VALUES (1, 'Cloth')",
  });
}, 60_000);
afterAll(() => yard?.close());

const database = () => live.environment.databases[0] as SiteDatabase;
const login = () => database().login;

async function ask(sql: string): Promise<string> {
  const client = await connectTo(login(), 'write', 'test');
  try {
    return String(Object.values((await client.query(sql)).rows[0] ?? {})[0]);
  } finally {
    await client.end();
  }
}

async function dieAndReturn(): Promise<void> {
  await yard.cluster.stop('immediate');
  await yard.cluster.start();
}

describe('a database server that dies', () => {
  it('never gives the number of a transaction that wrote rows to another one', async () => {
    // Each of three tries, since the server writes its log down by itself now and then.
    for (let round = 0; round < 3; round++) {
      const rows = await RowApplication.open(database(), live.environment, 'test', 'strict');
      await rows.stage(
        (async function* () {
          const cells = { title: { before: 'Cloth', after: 'Wool' } };
          yield { part: 'row', op: 'update', database: 'main', table: 'public.page', key: ['1'], cells } as const;
        })(),
        rewriterOf(live.environment),
        () => new Set(['title']),
      );
      const { mark: transaction } = await rows.write();
      await dieAndReturn();
      await rows.close().catch(() => undefined);
      expect(await ask(`SELECT pg_xact_status('${transaction}'::xid8)`)).not.toBe('committed');
      expect(BigInt(await ask('SELECT pg_current_xact_id()'))).toBeGreaterThan(BigInt(transaction));
      expect(await ask('SELECT title FROM public.page')).toBe('Cloth');
    }
  });

  it('ends what was remembered of a moment: numbers from then on may have been given again', async () => {
    const momentOf = async (): Promise<string | undefined> => {
      const view = await PostgresView.open(database());
      try {
        return (await view.moment())?.database;
      } finally {
        await view.close();
      }
    };
    // Who may not read the control file has no moments at all.
    const admin = { ...login(), user: yard.server.user, password: yard.server.password };
    const client = await connectTo(admin, 'write', 'test');
    await client.query(`GRANT EXECUTE ON FUNCTION pg_control_system(), pg_control_checkpoint() TO "${login().user}"`);
    await client.end();
    const before = await momentOf();
    expect(before).toMatch(/^\d+\//);
    expect(await momentOf()).toBe(before);
    await dieAndReturn();
    expect(await momentOf()).not.toBe(before);
  });
});
