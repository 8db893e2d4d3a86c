import { Client, ServiceProblem } from '@tessarion/client';
import { PrivateCluster } from '@tessarion/cluster';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { addSite, forecastOf, makeCopy, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let records: pg.Client;
beforeAll(async () => {
  studio = await startStudio();
  await addSite(studio);
  const { host, port, user, password } = await (await PrivateCluster.at(`${studio.data}/tessarion/records`)).start();
  records = new pg.Client({ host, port, user, password, database: 'postgres' });
  await records.connect();
}, 120_000);
afterAll(async () => {
  await records?.end();
  await studio?.stop();
});

const entries = async (query: Record<string, string> = {}) =>
  (await studio.client.call('journalList', { query })).items;
const verify = () => studio.client.call('journalVerify');
const sealed = () => expect.poll(async () => (await verify()).unsealed, { timeout: 10_000 }).toBe(0);

describe('the journal', () => {
  it('holds what was done, by whom, from where, and how it ended', async () => {
    const { id } = await makeCopy(studio, 'threadmill', 'staging');
    const [end, begin] = await entries({ thing: 'threadmill/staging' });
    expect(begin).toMatchObject({
      act: 'environmentCreate',
      outcome: 'done',
      name: 'Maren Brask',
      from: '127.0.0.1',
      details: { transfer: id, from: 'threadmill/live' },
    });
    expect(begin?.actor).toMatch(/^person p-\w+ token k-\w+$/);
    expect(end).toMatchObject({ act: 'transferEnd', actor: 'worker', details: { transfer: id, state: 'done' } });
  });

  it('holds what was refused, with the rule, and no secret', async () => {
    const forecast = await forecastOf(studio, 'threadmill/staging', 'threadmill/live');
    const call = studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: 'threadmill/staging' } });
    await expect(call).rejects.toThrow(ServiceProblem);
    const nobody = new Client({ url: studio.url });
    const mail = 'maren.brask@copperlane.example';
    await expect(nobody.call('signIn', { body: { mail, password: 'not the right one at all' } })).rejects.toThrow(
      'not right',
    );
    const [signIn, push] = await entries({ outcome: 'refused' });
    expect(push).toMatchObject({ act: 'pushCreate', details: { rule: 'not-confirmed' } });
    expect(signIn).toMatchObject({ act: 'signIn', actor: 'nobody', details: { rule: 'not-signed-in' } });
    const { rows } = await records.query(
      "SELECT e::text || coalesce(s::text, '') AS text FROM journal_entry e LEFT JOIN journal_side s ON s.entry_id = e.id",
    );
    for (const { text } of rows as { text: string }[]) {
      expect(text).not.toContain('not the right one');
      expect(text).not.toContain(studio.password);
      expect(text).not.toContain(studio.token);
    }
  });

  it('says nothing of an act whose transaction came to nothing', async () => {
    const before = (await entries()).length;
    const name = { name: 'threadmill', client: 'x', server: 'harbour-1', folder: '/x', databases: [] };
    await expect(
      studio.client.call('siteAdopt', { body: { ...name, addresses: [{ name: 'main', url: 'http://x.example' }] } }),
    ).rejects.toThrow('already');
    expect((await entries()).length).toBe(before);
  });

  it('is listed page by page, by act and by time', async () => {
    const all = await entries();
    const page = await studio.client.call('journalList', { query: { limit: 2 } });
    const next = await studio.client.call('journalList', { query: { limit: 2, cursor: page.next ?? '' } });
    expect([...page.items, ...next.items].map((one) => one.id)).toEqual(all.slice(0, 4).map((one) => one.id));
    const adopted = await entries({ act: 'siteAdopt' });
    expect(adopted.map((one) => one.thing)).toEqual(['threadmill/live']);
    expect(await entries({ until: adopted[0]?.at ?? '' })).not.toContainEqual(adopted[0]);
  });
});

describe('verifying the journal', () => {
  it('finds nothing in one that nobody touched', async () => {
    await sealed();
    const verdict = await verify();
    expect(verdict.faults).toEqual([]);
    expect(verdict.checked).toBeGreaterThan(8);
  });

  it('names what was altered, put in, removed and cut off', async () => {
    await sealed();
    const { rows } = await records.query('SELECT * FROM journal_entry ORDER BY position');
    const put = (row: Record<string, unknown>): Promise<unknown> =>
      records.query(
        `INSERT INTO journal_entry (${Object.keys(row).join()}) VALUES (${Object.keys(row)
          .map((_one, i) => `$${i + 1}`)
          .join()})`,
        Object.values(row),
      );
    const second = rows[1] as { id: string; details: string; position: number };
    await records.query('UPDATE journal_entry SET outcome = $2 WHERE id = $1', [second.id, 'refused']);
    expect((await verify()).faults).toMatchObject([{ what: 'altered', position: 2 }]);
    await records.query('UPDATE journal_entry SET outcome = $2 WHERE id = $1', [second.id, 'done']);
    expect((await verify()).faults).toEqual([]);

    await records.query('DELETE FROM journal_entry WHERE id = $1', [second.id]);
    expect((await verify()).faults).toMatchObject([{ what: 'missing', position: 2 }]);
    await put(rows[1]);
    expect((await verify()).faults).toEqual([]);

    // Made by somebody who can write the records and does not have the key: never sealed, and named.
    await put({ ...rows[1], id: 'j-forged0000', position: null, seal: null });
    await expect
      .poll(async () => (await records.query("SELECT is_foreign FROM journal_entry WHERE id = 'j-forged0000'")).rows)
      .toEqual([{ is_foreign: true }]);
    expect((await verify()).faults).toMatchObject([{ what: 'foreign' }]);
    await records.query("DELETE FROM journal_entry WHERE id = 'j-forged0000'");

    const { head, checked } = await verify();
    expect(head?.position).toBeGreaterThan(0);
    await records.query('DELETE FROM journal_entry WHERE position >= $1', [head?.position]);
    expect((await verify()).faults).toMatchObject([{ what: 'cut off', position: head?.position }]);
    for (const row of rows.filter((one) => one.position >= (head?.position ?? 0))) await put(row);
    const verdict = await verify();
    expect([verdict.faults, verdict.checked]).toEqual([[], checked]);
  });

  it('holds after somebody was erased from it', async () => {
    const { id, key } = await studio.client.call('personInvite', {
      body: { name: 'Oda Lien', mail: 'oda.lien@copperlane.example', role: 'editor', scope: 'threadmill' },
    });
    const nobody = new Client({ url: studio.url });
    await nobody.call('invitationAccept', { body: { key, password: studio.password } });
    expect(await entries({ actor: `person ${id}` })).toMatchObject([{ name: 'Oda Lien', from: '127.0.0.1' }]);
    await studio.client.call('personEnd', { params: { id } });
    await studio.client.call('personErase', { params: { id } });
    expect(await entries({ actor: `person ${id}` })).toMatchObject([
      { act: 'invitationAccept', name: null, from: null },
    ]);
    await sealed();
    expect((await verify()).faults).toEqual([]);
    const { rows } = await records.query(
      "SELECT count(*)::int AS found FROM journal_entry e LEFT JOIN journal_side s ON s.entry_id = e.id WHERE e::text || coalesce(s::text, '') LIKE '%Oda%'",
    );
    expect(rows).toEqual([{ found: 0 }]);
  });

  it('finds no gap after many acts at once', async () => {
    const body = { title: 'Crew', permissions: ['site.read' as const] };
    const names = Array.from({ length: 40 }, (_one, i) => `crew-${i}`);
    await Promise.all(names.map((name) => studio.client.call('roleSave', { params: { name }, body })));
    await sealed();
    const { rows } = await records.query(
      'SELECT count(*)::int AS entries, max(position)::int AS last FROM journal_entry',
    );
    expect(rows[0].entries).toBe(rows[0].last);
    expect((await entries({ act: 'roleSave' })).map((one) => one.thing).sort()).toEqual(
      names.map((name) => `role ${name}`).sort(),
    );
  });
});
