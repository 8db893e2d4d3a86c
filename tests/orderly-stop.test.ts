import * as fs from 'node:fs/promises';
import { Transfer } from '@tessarion/contract';
import { visit } from '@tessarion/demo';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { leftOvers, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('live');
}, 120_000);
afterAll(() => studio?.stop());

describe('an orderly stop', () => {
  it('brings running work to a safe point, and the next start goes on', async () => {
    const before = await leftOvers(studio);
    const client = new pg.Client({ ...studio.server, database: 'postgres' });
    await client.connect();
    const transfer = await studio.client.call('environmentCreate', {
      params: { site: 'threadmill' },
      body: { name: 'interrupted', kind: 'dev' },
    });
    expect(Transfer.parse(transfer).state).toBe('waiting');
    const pages = await visit(studio.gatewayPort, 'threadmill.localhost', '/');
    expect(pages.status).toBe(200);
    const since = Date.now();
    await new Promise<void>((resolve) => {
      studio.service.once('exit', () => resolve());
      studio.service.kill('SIGTERM');
    });
    expect(Date.now() - since).toBeLessThan(20_000);
    const databases = await client.query("SELECT datname FROM pg_database WHERE datname LIKE '%interrupted%'");
    await client.end();
    const folders = (await fs.readdir(studio.hosts)).filter((name) => name.includes('interrupted'));
    // Either it was made whole before the stop, or nothing of it is left.
    expect(folders.length).toBe(databases.rows.length);
    if (folders.length === 0) expect(await leftOvers(studio)).toEqual(before);
    const sessions = new pg.Client({ ...studio.server, database: 'postgres' });
    await sessions.connect();
    const open = await sessions.query(
      "SELECT count(*)::int AS count FROM pg_stat_activity WHERE application_name LIKE 'tessarion%'",
    );
    await sessions.end();
    expect(open.rows).toEqual([{ count: 0 }]);
  });
});
