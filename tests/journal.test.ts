import { readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Client, ServiceProblem } from '@tessarion/client';
import { type Endpoint, endpoints, isAct, type JournalHead } from '@tessarion/contract';
import { actWords, hasActWords } from '@tessarion/core';
import type pg from 'pg';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { done, forecastOf, invited, makeCopy, onSite, type Studio, startStudio } from './support/studio.js';

const ELSEWHERE = join(tmpdir(), `heads-elsewhere-${process.pid}.jsonl`);

let studio: Studio;
let records: pg.Pool;
/** The transfer that made the copy. */
let copied = '';
beforeAll(async () => {
  studio = await startStudio('live', { variables: { TESSARION_JOURNAL_HEADS: ELSEWHERE } });
  copied = (await makeCopy(studio, 'threadmill', 'staging')).id;
  ({ records } = studio);
  await vi.waitUntil(async () => (await readFile(ELSEWHERE, 'utf8').catch(() => '')) !== '', { timeout: 30_000 });
}, 120_000);
afterAll(async () => {
  await studio?.stop();
  await rm(ELSEWHERE, { force: true });
});

const entries = async (query: Record<string, string> = {}) =>
  (await studio.client.call('journalList', { query })).items;
const verify = () => studio.client.call('journalVerify');
const sealed = () => expect.poll(async () => (await verify()).unsealed, { timeout: 10_000 }).toBe(0);

/** Tables of the records in which some words stand anywhere, those of the queue among them. */
async function tablesWith(words: string): Promise<string[]> {
  const { rows } = await records.query(
    "SELECT quote_ident(table_schema) || '.' || quote_ident(table_name) AS name FROM information_schema.tables WHERE table_type = 'BASE TABLE' AND table_schema NOT IN ('pg_catalog', 'information_schema')",
  );
  const found: string[] = [];
  for (const { name } of rows as { name: string }[]) {
    const held = await records.query(`SELECT 1 FROM ${name} AS t WHERE t::text LIKE '%' || $1 || '%' LIMIT 1`, [words]);
    if (held.rowCount) found.push(name);
  }
  return found;
}

describe('the journal', () => {
  it('holds what was done, by whom, from where, and how it ended', async () => {
    const all = await entries({ thing: 'threadmill/staging' });
    const [end, begin] = all.filter((one) => one.details.transfer === copied);
    expect(begin).toMatchObject({
      act: 'environmentCreate',
      outcome: 'done',
      name: 'Maren Brask',
      from: '127.0.0.1',
      details: { transfer: copied, from: 'threadmill/live' },
    });
    expect(begin?.actor).toMatch(/^person p-\w+ token k-\w+$/);
    expect(end).toMatchObject({ act: 'transferEnd', actor: 'worker', details: { transfer: copied, state: 'done' } });
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

describe('an entry in words', () => {
  it('is there for everything that one can do', () => {
    const acts = Object.entries(endpoints).flatMap(([name, one]) => (isAct(one as Endpoint) ? [name] : []));
    expect(acts.length).toBeGreaterThan(80);
    expect(acts.filter((name) => !hasActWords(name))).toEqual([]);
  });

  it('calls people by their names, and is found by a part of it', async () => {
    const { id } = await studio.client.call('personInvite', {
      body: { name: 'Torgeir Vang', mail: 'torgeir@copperlane.example', role: 'observer', scope: 'everything' },
    });
    const { items } = await studio.client.call('journalList', { query: { find: id, act: 'personInvite' } });
    expect(items.map(({ thing, called }) => ({ thing, called }))).toEqual([{ thing: id, called: 'Torgeir Vang' }]);
    expect(actWords('personInvite')).toEqual(['invited', true, '']);
    expect(actWords('verdictGive', 'return')).toEqual(['sent', true, 'back']);
    expect((await studio.client.call('journalList', { query: { find: '100%_nothing' } })).items).toEqual([]);
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
    const last = await records.query('DELETE FROM journal_entry WHERE position >= $1 RETURNING *', [head?.position]);
    expect((await verify()).faults).toMatchObject([{ what: 'cut off', position: head?.position }]);
    for (const row of last.rows) await put(row);
    const verdict = await verify();
    expect([verdict.faults, verdict.checked]).toEqual([[], checked]);
  });

  it('names who was made somebody else, and who is gone though nobody erased them', async () => {
    await sealed();
    const { rows } = await records.query(
      'SELECT * FROM journal_side WHERE entry_id = (SELECT id FROM journal_entry WHERE position = 2)',
    );
    const [side] = rows as { entry_id: string; salt: string; text: string; person_id: string }[];
    if (!side) throw new Error('Nobody did the second thing.');
    const setText = (text: string) =>
      records.query('UPDATE journal_side SET text = $2 WHERE entry_id = $1', [side.entry_id, text]);
    await setText(side.text.replace('Maren Brask', 'Odd Rye'));
    expect((await verify()).faults).toMatchObject([{ what: 'who altered', position: 2 }]);
    await setText(side.text);
    expect((await verify()).faults).toEqual([]);
    await records.query('DELETE FROM journal_side WHERE entry_id = $1', [side.entry_id]);
    expect((await verify()).faults).toMatchObject([{ what: 'who gone', position: 2 }]);
    await records.query('INSERT INTO journal_side (entry_id, salt, text, person_id) VALUES ($1, $2, $3, $4)', [
      side.entry_id,
      side.salt,
      side.text,
      side.person_id,
    ]);
    expect((await verify()).faults).toEqual([]);
  });

  it('is missed where it is gone as a whole, and by heads elsewhere where those here are cut off as well', async () => {
    await sealed();
    const here = join(studio.data, 'tessarion', 'journal', 'heads.jsonl');
    const headsOf = async (file: string) =>
      (await readFile(file, 'utf8')).split('\n').flatMap((line) => (line === '' ? [] : [JSON.parse(line)]));
    const [first] = await headsOf(ELSEWHERE);
    expect((await headsOf(here)).map((one) => one.position)).toContain(first.position);
    const kept = await readFile(here, 'utf8');
    await records.query('CREATE TABLE kept_entry AS SELECT * FROM journal_entry');
    await records.query('DELETE FROM journal_entry');
    const whats = async (body?: { heads: JournalHead[] }) =>
      (await studio.client.call('journalVerify', { body })).faults.map((one) => one.what);
    expect([...new Set(await whats())]).toEqual(['empty', 'cut off']);
    await writeFile(here, '');
    expect(await whats()).toContain('cut off');
    const elsewhere = await readFile(ELSEWHERE);
    await rm(ELSEWHERE);
    expect(await whats()).toEqual(['empty']);
    expect(await whats({ heads: [first] })).toEqual(['empty', 'cut off']);
    await records.query('INSERT INTO journal_entry SELECT * FROM kept_entry');
    await records.query('DROP TABLE kept_entry');
    await writeFile(here, kept);
    await writeFile(ELSEWHERE, elsewhere);
    expect(await whats()).toEqual([]);
    expect(await whats({ heads: [{ ...first, position: first.position + 1 }] })).toEqual(['head not ours']);
  });

  it('holds after somebody was erased, whose name and address no record keeps', async () => {
    const mail = 'oda.lien@copperlane.example';
    const oda = await invited(studio, mail, 'operations', 'everything', 'Oda Lien');
    const { id } = await oda.call('me');
    expect(await entries({ actor: `person ${id}` })).toContainEqual(
      expect.objectContaining({ act: 'invitationAccept', name: 'Oda Lien', from: '127.0.0.1' }),
    );
    // Something of each kind that names who did it.
    const site = { site: 'threadmill' };
    await done(studio, await oda.call('snapshotTake', { body: { environment: 'threadmill/staging' } }));
    const { text } = await oda.call('profileShow', { params: { name: 'quayside' }, query: {} });
    await oda.call('profileSave', { params: { name: 'quayside' }, body: { text }, etag: '*' });
    await onSite(studio, 'threadmill/staging', (query) => query("UPDATE page SET title = 'Dyes' WHERE slug = 'dye'"));
    const forecast = await oda.call('forecastCreate', {
      body: { from: 'threadmill/staging', onto: 'threadmill/live' },
    });
    await expect.poll(async () => (await oda.call('forecastShow', { params: forecast })).state).toBe('ready');
    const { id: request } = await oda.call('requestOpen', { body: { forecast: forecast.id, title: 'Dyes' } });
    const params = { id: request };
    await oda.call('requestAsk', { params });
    await oda.call('commentAdd', { params, body: { text: 'Look.' } });
    await done(studio, await oda.call('previewMake', { params }));
    await oda.call('guestInvite', { params: site, body: { name: 'Vera Lund', looks: [{ request }], words: 'Look.' } });
    await oda.call('requestWithdraw', { params, body: { reason: 'No.' } });
    await oda.call('freezeAdd', {
      body: { reason: 'Stock', scope: 'threadmill', time: { repeats: 'yearly', from: '12-20', until: '12-21' } },
    });
    await oda.call('tokenCreate', { body: { name: 'night' } });
    expect(await tablesWith('Oda Lien')).not.toEqual([]);

    await studio.client.call('personEnd', { params: { id } });
    await studio.client.call('personErase', { params: { id } });
    for (const words of ['Oda Lien', mail]) expect([words, await tablesWith(words)]).toEqual([words, []]);
    const did = await entries({ actor: `person ${id}` });
    expect(did.length, 'what they did stays').toBeGreaterThan(10);
    for (const one of did) expect([one.name, one.from]).toEqual([null, null]);
    const moved = (await studio.client.call('transferList', { query: site })).items.find(
      (one) => one.kind === 'snapshot',
    );
    expect(moved?.person).toBe('Somebody who left');
    await sealed();
    expect((await verify()).faults).toEqual([]);
  });

  it('holds after a value of somebody was taken out of all records, and nothing else of them is', async () => {
    const name = 'Ragna "the tall" Ytreøy';
    const { client } = studio;
    await onSite(studio, 'threadmill/staging', (query) =>
      query('UPDATE page SET title = $1, body = $1 WHERE slug = $2', [name, 'dye']),
    );
    const forecast = await forecastOf(studio, 'threadmill/staging', 'threadmill/live');
    const params = {
      id: (await client.call('requestOpen', { body: { forecast: forecast.id, title: `Of ${name}` } })).id,
    };
    await client.call('requestAsk', { params });
    await client.call('commentAdd', { params, body: { text: `Ask ${name} about it.` } });
    // As a former version left it: an error that quotes a row of a site.
    await records.query('UPDATE transfer SET failure = $2 WHERE id = $1', [
      copied,
      JSON.stringify({ code: 'database', message: `Failing row contains (${name})`, next: 'Look.' }),
    ]);
    await sealed();
    const lasts = { repeats: 'yearly', from: '12-20', until: '12-21' } as const;
    // This entry may have no seal yet.
    await client.call('freezeAdd', { body: { reason: `${name} is away`, scope: 'threadmill', time: lasts } });
    const held = await tablesWith('Ytreøy');
    expect(held).toEqual(expect.arrayContaining(['public.journal_entry', 'public.request_comment', 'public.transfer']));

    for (const value of ['live', 'threadmill/live', '12345', 'Abc', '     '])
      await expect(client.call('valueErase', { body: { value } }), value).rejects.toThrow('more than somebody');
    const erased = await client.call('valueErase', { body: { value: name } });
    expect(erased.rows).toBeGreaterThan(5);
    expect(erased.entries).toBeGreaterThan(0);
    expect(await tablesWith('Ytreøy')).toEqual([]);
    expect(await client.call('valueErase', { body: { value: name } })).toEqual({ rows: 0, entries: 0 });
    const shown = JSON.stringify(await client.call('forecastItems', { params: { id: forecast.id }, query: {} }));
    expect(shown).toContain('[erased]');
    expect(shown).not.toContain('Ytreøy');
    const request = await client.call('requestShow', { params });
    expect([request.title, request.state]).toEqual(['Of [erased]', 'approved']);
    const [freeze] = await entries({ act: 'freezeAdd' });
    expect(freeze?.details).toMatchObject({ reason: '[erased] is away', time: lasts });
    await sealed();
    expect((await verify()).faults).toEqual([]);
    await client.call('requestWithdraw', { params, body: { reason: 'Enough.' } });
  });

  it('finds no gap after many acts at once', async () => {
    const body = { title: 'Crew', permissions: ['site.read' as const] };
    const names = Array.from({ length: 40 }, (_one, i) => `crew-${i}`);
    await Promise.all(names.map((name) => studio.client.call('roleSave', { params: { name }, body, etag: null })));
    await sealed();
    const { rows } = await records.query(
      'SELECT count(position)::int AS entries, max(position)::int AS last FROM journal_entry',
    );
    expect(rows[0].entries).toBe(rows[0].last);
    expect((await entries({ act: 'roleSave' })).map((one) => one.thing).sort()).toEqual(
      names.map((name) => `role ${name}`).sort(),
    );
  });
});
