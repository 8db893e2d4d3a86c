import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { Client } from '@tessarion/client';
import { visit } from '@tessarion/demo';
import { unserialize } from 'php-serialize';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  done,
  ended,
  folderOf,
  forecastOf,
  leftOvers,
  makeCopy,
  newcomer,
  onSite,
  pullInto,
  refusal,
  type Studio,
  saveProfile,
  startStudio,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('live');
  await fs.symlink('logo.svg', join(folderOf(studio, LIVE), 'main/media/same.svg'));
  await fs.chmod(join(folderOf(studio, LIVE), 'main/media/logo.svg'), 0o640);
  await onSite(studio, LIVE, async (query) => {
    const base = `http://threadmill.localhost:${studio.gatewayPort}`;
    await query('INSERT INTO page (slug, title, body) VALUES ($1, $2, $3)', [
      'hard',
      'Hard values',
      `${base}/a https://threadmill.localhost.evil.example ${base}1 info@threadmill.localhost "${base.replaceAll('/', '\\/')}\\/x" ${encodeURIComponent(`${base}/q`)}\ttab \\ back\nline`,
    ]);
  });
  await makeCopy(studio, 'threadmill', 'staging');
}, 120_000);
afterAll(() => studio?.stop());

const bases = () => ({
  live: `http://threadmill.localhost:${studio.gatewayPort}`,
  copy: `http://threadmill--staging.localhost:${studio.gatewayPort}`,
});

/** Reads every table with plain SQL; shares nothing with the product's own reading. */
const readAll = (path: string) =>
  onSite(studio, path, async (query) => {
    const tables = (
      await query(
        "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace ORDER BY 1",
      )
    ).map((row) => String(row.relname));
    const found = new Map<string, Record<string, unknown>[]>();
    for (const table of tables)
      found.set(table, await query(`SELECT t.*, t::text AS _all FROM "${table}" t ORDER BY t::text`));
    return found;
  });

describe('a copy of live, step by step', { shuffle: false }, () => {
  it('holds every row of live, its addresses rewritten, its people masked, and nothing else changed', async () => {
    const { live, copy } = bases();
    const [from, onto] = [await readAll(LIVE), await readAll(COPY)];
    const masked: Record<string, string[]> = {
      customer: ['name', 'email', 'phone', 'street', 'password_hash'],
      review: ['author', 'email'],
      booking: ['name', 'email', 'phone'],
      signup: ['email'],
      appointment: ['owner_name', 'email', 'phone', 'complaint'],
      purchase: ['note'],
    };
    const empty = ['session', 'page_cache', 'search_word'];
    expect([...onto.keys()]).toEqual([...from.keys()]);
    const variants = (base: string): string[] => [base, base.replaceAll('/', '\\/'), encodeURIComponent(base)];
    for (const [table, rows] of from) {
      const copied = onto.get(table) as Record<string, unknown>[];
      expect(copied.length, table).toBe(empty.includes(table) ? 0 : rows.length);
      const byKey = new Map(copied.map((row) => [String(row.id ?? row.name), row]));
      for (const row of empty.includes(table) ? [] : rows) {
        const twin = byKey.get(String(row.id ?? row.name)) as Record<string, unknown>;
        for (const [column, value] of Object.entries(row)) {
          if (column === '_all') continue;
          if (masked[table]?.includes(column)) {
            if (value !== null) expect(twin[column], `${table}.${column}`).not.toBe(value);
          } else if (table === 'option' && column === 'value' && row.name === 'footer_box') {
            const [before, after] = [
              unserialize(String(value)) as Record<string, string>,
              unserialize(String(twin.value)) as Record<string, string>,
            ];
            expect(after).toEqual({ ...before, link: before.link?.replace(live, copy) });
          } else if (typeof value === 'string') {
            const expected = variants(live).reduce(
              (text, one, i) =>
                text.replaceAll(
                  new RegExp(`${one.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')}(?![0-9])`, 'g'),
                  variants(copy)[i] as string,
                ),
              value,
            );
            expect(twin[column], `${table}.${column}`).toBe(expected);
          } else expect(twin[column], `${table}.${column}`).toEqual(value);
        }
      }
    }
  });

  it('masks the same person alike and keeps the form', async () => {
    const [customer] = await onSite(studio, COPY, (query) => query('SELECT * FROM customer'));
    expect(customer?.email).toMatch(/^[a-z]+\.[0-9a-f]+@masked\.example$/);
    expect(String(customer?.phone)).toMatch(/^\+47 \d{2} \d{2} \d{2} \d{2}$/);
    expect(customer?.password_hash).toBeNull();
  });

  it('keeps staff logins', async () => {
    const [from, onto] = await Promise.all(
      [LIVE, COPY].map((path) =>
        onSite(studio, path, (query) => query('SELECT login, email, password_hash FROM editor')),
      ),
    );
    expect(onto).toEqual(from);
  });

  it('has the same files, with modes and links, and its own settings', async () => {
    /** By path below the root: when each file was written last, in milliseconds. */
    const written = { [LIVE]: new Map<string, number>(), [COPY]: new Map<string, number>() };
    const list = async (path: typeof LIVE | typeof COPY): Promise<Map<string, string>> => {
      const base = join(folderOf(studio, path), 'main');
      const found = new Map<string, string>();
      for (const entry of await fs.readdir(base, { recursive: true, withFileTypes: true })) {
        const full = join(entry.parentPath, entry.name);
        const name = full.slice(base.length + 1);
        const { mode, mtimeMs } = await fs.lstat(full);
        if (entry.isFile()) {
          found.set(name, `${(mode & 0o777).toString(8)} ${await fs.readFile(full, 'latin1')}`);
          written[path]?.set(name, mtimeMs);
        }
        if (entry.isSymbolicLink() && !name.startsWith('var') && name !== 'media/uploads')
          found.set(name, await fs.readlink(full));
      }
      return found;
    };
    const { live, copy } = bases();
    const [from, onto] = [await list(LIVE), await list(COPY)];
    for (const [name, content] of from) {
      if (name.startsWith('config/')) continue;
      expect(onto.get(name), name).toBe(name === 'styles/links.css' ? content.replaceAll(live, copy) : content);
      // Times are set to the microsecond.
      const [at, copied] = [written[LIVE]?.get(name), written[COPY]?.get(name)];
      if (at !== undefined) expect(Math.abs(at - (copied ?? 0)), name).toBeLessThan(0.1);
    }
    const settings = onto.get('config/site.env') ?? '';
    expect(settings).toContain(`SITE_BASE_URL=${copy}`);
    expect(settings).toContain('MAIL_MODE=catch');
    expect(settings).toContain('PAYMENT_MODE=test');
    expect(settings).not.toContain('threadmill_live');
    expect(settings.split('\n').length).toBe((from.get('config/site.env') ?? '').split('\n').length);
  });

  it('does not let its own login into live’s database', async () => {
    const { default: pg } = await import('pg');
    const settings = await fs.readFile(join(folderOf(studio, COPY), 'main/config/site.env'), 'utf8');
    const value = (key: string): string => new RegExp(`^${key}=(.*)$`, 'm').exec(settings)?.[1] ?? '';
    const client = new pg.Client({
      host: '127.0.0.1',
      port: studio.server.port,
      database: 'threadmill_live',
      user: value('DATABASE_USER'),
      password: value('DATABASE_PASSWORD'),
    });
    await expect(client.connect()).rejects.toThrow(/permission denied/);
  });

  it('is closed to strangers and search engines, and opens with its login', async () => {
    const stranger = await visit(studio.gatewayPort, 'threadmill--staging.localhost', '/');
    expect(stranger.status).toBe(401);
    expect(stranger.body).not.toContain('Cloth that lasts');
    const { gate } = await studio.client.call('environmentLogins', {
      params: { site: 'threadmill', environment: 'staging' },
    });
    const at = `http://127.0.0.1:${studio.gatewayPort}`;
    const host = `threadmill--staging.localhost:${studio.gatewayPort}`;
    const { request } = await import('node:http');
    const call = (method: string, path: string, headers: Record<string, string>, body?: string) =>
      new Promise<{ status: number; headers: Record<string, string | string[] | undefined>; body: string }>(
        (resolve, reject) => {
          const one = request(`${at}${path}`, { method, headers: { host, ...headers } }, (response) => {
            let text = '';
            response.on('data', (chunk) => {
              text += chunk;
            });
            response.on('end', () =>
              resolve({ status: response.statusCode ?? 0, headers: response.headers, body: text }),
            );
          });
          one.on('error', reject);
          one.end(body);
        },
      );
    const wrong = await call('POST', '/.tessarion/gate', {}, 'user=threadmill&password=wrong');
    expect(wrong.status).toBe(401);
    const right = await call(
      'POST',
      '/.tessarion/gate',
      {},
      `user=${gate?.user}&password=${encodeURIComponent(gate?.password ?? '')}`,
    );
    expect(right.status).toBe(303);
    const cookie = String(right.headers['set-cookie']).split(';')[0] as string;
    const page = await call('GET', '/', { cookie });
    expect(page.body).toContain('Cloth that lasts');
    expect(page.body).toContain('tsr-marker');
    expect(page.body).toContain('Payments are in test mode.');
    expect(page.headers['x-robots-tag']).toContain('noindex');
    expect(page.body).not.toContain(`//threadmill.localhost:${studio.gatewayPort}`);
    expect((await call('GET', '/robots.txt', {})).body).toContain('Disallow: /');
    const { url } = await studio.client.call('environmentEnter', {
      params: { site: 'threadmill', environment: 'staging' },
    });
    const path = url.slice(url.indexOf('/.tessarion'));
    expect((await call('GET', path, {})).status).toBe(303);
    expect((await call('GET', path, {})).status, 'a ticket works once').toBe(401);
    const order = await call(
      'POST',
      '/order',
      { cookie, 'content-type': 'application/x-www-form-urlencoded' },
      'product=1&name=Test&email=test@post.example&quantity=1',
    );
    expect(order.body).toContain('test payment');
    const caught = await fs.readFile(join(folderOf(studio, COPY), 'main/var/log/caught-mail.log'), 'utf8');
    expect(caught).toContain('test@post.example');
  });

  it('leaves live as it was', async () => {
    const page = await visit(studio.gatewayPort, 'threadmill.localhost', '/');
    expect(page.status).toBe(200);
    expect(page.body).not.toContain('tsr-marker');
  });
});

describe('traces of live stop a copy, by name', () => {
  const attempt = async (name: string, body: Record<string, unknown> = {}) =>
    ended(
      studio,
      await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name, kind: 'staging', ...body },
      }),
    );

  it('a file with its database login, a row with its root path', async () => {
    const before = await leftOvers(studio);
    const file = join(folderOf(studio, LIVE), 'main/templates/old.inc');
    await fs.writeFile(file, 'connect to\nthreadmill_live please\n');
    await onSite(studio, LIVE, (query) =>
      query("INSERT INTO option (name, value) VALUES ('upload_dir', $1)", [`${folderOf(studio, LIVE)}/main/media`]),
    );
    const failed = await attempt('traced');
    expect(failed.state).toBe('failed');
    expect(failed.failure?.message).toContain('templates/old.inc, line 2');
    expect(failed.failure?.message).toContain('upload_dir');
    expect(failed.failure?.next).toContain('--accept-trace');
    expect(await leftOvers(studio)).toEqual(before);
    const accepted = await attempt('accepted', {
      acceptTraces: ['templates/old.inc:database-name', 'option.value:root-path'],
    });
    expect(accepted.state, accepted.failure?.message).toBe('done');
    await fs.rm(file);
    await onSite(studio, LIVE, (query) => query("DELETE FROM option WHERE name = 'upload_dir'"));
  });

  it('a link into its media folder', async () => {
    const link = join(folderOf(studio, LIVE), 'main/media/far.svg');
    await fs.symlink(`${folderOf(studio, LIVE)}/keep/main/uploads`, link);
    const failed = await attempt('linked');
    expect(failed.failure?.message).toContain('media/far.svg');
    await fs.rm(link);
  });

  it('a column that looks personal and is not classified', async () => {
    await onSite(studio, LIVE, (query) => query('ALTER TABLE product ADD COLUMN supplier_email text'));
    const failed = await attempt('personal');
    expect(failed.failure?.message).toContain('product.supplier_email');
    const accepted = await attempt('personal', { acceptPersonal: 'suppliers are companies' });
    expect(accepted.state).toBe('done');
    // What was said when it was made is said again when it is made anew.
    await onSite(studio, LIVE, (query) => query('ALTER TABLE product ADD COLUMN maker_email text'));
    const resetting = (body: { acceptPersonal?: string }) =>
      studio.client
        .call('resetCreate', { body: { from: LIVE, onto: 'threadmill/personal', ...body } })
        .then((transfer) => ended(studio, transfer));
    expect((await resetting({})).failure?.message).toContain('product.maker_email');
    expect((await resetting({ acceptPersonal: 'makers are companies' })).state).toBe('done');
    await onSite(studio, LIVE, (query) =>
      query('ALTER TABLE product DROP COLUMN supplier_email, DROP COLUMN maker_email'),
    );
  });

  it('a column whose values look like names, whatever it is called', async () => {
    await onSite(studio, LIVE, (query) =>
      query("ALTER TABLE customer ADD COLUMN signed text; UPDATE customer SET signed = 'Anna'"),
    );
    const failed = await attempt('signed');
    expect(failed.failure?.message).toContain('customer.signed (its values look like names of people)');
    await onSite(studio, LIVE, (query) => query('ALTER TABLE customer DROP COLUMN signed'));
  });

  it('a column in whose values people stand, until its profile masks them there; the copy has none of them', async () => {
    const facts = `{"by": {"mail": "' || email || '"}, "gift": true}`;
    await onSite(studio, LIVE, (query) =>
      query(`ALTER TABLE customer ADD COLUMN facts jsonb; UPDATE customer SET facts = ('${facts}')::jsonb`),
    );
    const failed = await attempt('inside');
    expect(failed.failure?.message).toContain(
      'customer.facts (what stands at $.by.mail in it looks like mail addresses)',
    );
    const { profile } = await studio.client.call('siteShow', { params: { site: 'threadmill' } });
    const name = String(profile).split('/')[0] as string;
    const { text } = await studio.client.call('profileShow', { params: { name }, query: {} });
    const column = '$1          facts: { personal: { inside: { "$$.by.mail": mail } } }\n';
    await saveProfile(studio.client, name, text.replace(/( {6}customer:\n.*\n {8}columns:\n)/, column));
    expect((await attempt('inside')).state).toBe('done');
    const both = (path: string) =>
      onSite(studio, path, (query) => query('SELECT id, email, facts FROM customer ORDER BY id'));
    const [ours, theirs] = [await both(LIVE), await both('threadmill/inside')];
    for (const [i, { id, email, facts }] of theirs.entries()) {
      expect(facts, `customer ${id}: one person is one on the copy, too`).toEqual({ by: { mail: email }, gift: true });
      expect(email).not.toBe(ours[i]?.email);
    }
    expect(theirs.length).toBeGreaterThan(0);
    await saveProfile(studio.client, name, text);
    await onSite(studio, LIVE, (query) => query('ALTER TABLE customer DROP COLUMN facts'));
  });
});

describe('what a copy may leave out, and its end', () => {
  it.each([
    [{ tables: ['notise'] }, 'There is no table "notise" to leave out. Did you mean notice?'],
    [{ paths: ['media/archiv'] }, 'There is no path "media/archiv" in threadmill/live to leave out.'],
  ])('refuses by name what is not there: %j', async (leaveOut, words) => {
    const body = { name: 'misspelt', kind: 'dev', leaveOut } as const;
    const end = await ended(
      studio,
      await studio.client.call('environmentCreate', { params: { site: 'threadmill' }, body }),
    );
    expect(end).toMatchObject({ state: 'failed', failure: { message: expect.stringContaining(words) } });
  });

  it('leaves out tables and areas, and does not take them for deleted', async () => {
    await done(
      studio,
      await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name: 'lean', kind: 'staging', leaveOut: { tables: ['notice', 'review'], areas: ['media'] } },
      }),
    );
    const copied = await fs.readdir(join(folderOf(studio, 'threadmill/lean'), 'main/media'));
    expect(copied).not.toContain('logo.svg');
    const forecast = await forecastOf(studio, 'threadmill/lean', LIVE);
    expect(forecast.written).toEqual([]);
  });

  it('is removed whole', async () => {
    const before = await leftOvers(studio);
    const params = { site: 'threadmill', environment: 'short' };
    await makeCopy(studio, 'threadmill', 'short', 'dev');
    const guest = await newcomer(studio, 'tora.lie@copperlane.example', 'observer', 'threadmill/short');
    await guest.call('environmentShow', { params });
    const { value } = await studio.client.call('tokenCreate', { body: { name: 'short', scope: 'threadmill/short' } });
    const removal = await done(
      studio,
      await studio.client.call('environmentRemove', { params, query: { confirm: 'threadmill/short' } }),
    );
    expect(await leftOvers(studio)).toEqual(before);
    expect(removal.steps.at(-1)?.detail).toBe('ended what was given for it: 1 role, 1 token');
    await makeCopy(studio, 'threadmill', 'short', 'dev');
    expect(await refusal(guest.call('environmentShow', { params })), 'another one of that name').toBe('not-found');
    expect(await refusal(new Client({ url: studio.url, token: value }).call('me'))).toBe('not-signed-in');
  });

  it('is reset from live, and keeps its address and login', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Only here' WHERE slug = 'dye'"));
    const gate = await studio.client.call('environmentLogins', {
      params: { site: 'threadmill', environment: 'staging' },
    });
    // What somebody wrote there that is the copy's own stays, whatever comes into it.
    const file = join(folderOf(studio, COPY), 'main/config/site.env');
    const own = async (): Promise<string | undefined> =>
      /^SITE_MAP_KEY=(.*)$/m.exec(await fs.readFile(file, 'utf8'))?.[1]?.replaceAll('"', '');
    const text = await fs.readFile(file, 'utf8');
    await fs.writeFile(file, text.replace(/^SITE_MAP_KEY=.*$/m, 'SITE_MAP_KEY=of-this-copy'));
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
    expect(await own()).toBe('of-this-copy');
    await fs.writeFile(file, (await fs.readFile(file, 'utf8')).replace('of-this-copy', 'another-one'));
    await fs.appendFile(join(folderOf(studio, LIVE), 'main/config/site.env'), 'MORE=1\n');
    await done(studio, await pullInto(studio, LIVE, COPY));
    expect(await fs.readFile(file, 'utf8')).toContain('MORE=1');
    expect(await own()).toBe('another-one');
    // A copy whose settings somebody broke is made anew all the same.
    await fs.writeFile(file, 'nothing of what it had\n');
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
    expect(await own()).toBe('another-one');
    const [page] = await onSite(studio, COPY, (query) => query("SELECT title FROM page WHERE slug = 'dye'"));
    expect(page?.title).toBe('How we dye');
    expect(
      await studio.client.call('environmentLogins', { params: { site: 'threadmill', environment: 'staging' } }),
    ).toEqual(gate);
  });
});
