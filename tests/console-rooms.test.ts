import { readFile } from 'node:fs/promises';
import { fileURLToPath } from 'node:url';
import { type FleetEnvironment, type FleetSite, JournalEntry } from '@tessarion/contract';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { comeIn, done, ended, forecastOf, onSite, pushOnto, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
  await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Dyes of the year' WHERE slug = 'dye'"));
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
}, 120_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const room = (path: string): Promise<unknown> => page.goto(studio.url + path);
const faults = (): Promise<string[]> => browsing.faults(page);
const settled = async (): Promise<void> => {
  await page.locator('main, form').first().waitFor();
  await page.waitForFunction(() => document.querySelector('[aria-busy]') === null);
};

/** A fleet of any size, made of the one that is there. */
async function fleetOf(
  sites: number,
  change: (site: FleetSite, i: number) => FleetSite = (site) => site,
): Promise<FleetSite[]> {
  const [model] = await studio.client.call('fleetShow');
  return Array.from({ length: sites }, (_one, i) => {
    const name = `site-${String(i).padStart(4, '0')}`;
    const environments = (model as FleetSite).environments.map(
      (one): FleetEnvironment => ({ ...one, site: name, path: `${name}/${one.name}` }),
    );
    return change({ ...(model as FleetSite), name, client: `Client ${i % 40}`, environments }, i);
  });
}

const answerSites = (sites: FleetSite[]): Promise<unknown> =>
  page.route('**/api/v1/fleet', (route) => route.fulfill({ json: sites }));

describe('every room', () => {
  const ROOMS = [
    '/',
    '/sites/threadmill',
    '/sites/threadmill?at=staging',
    '/sites/threadmill/new',
    `/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`,
    '/transfers',
    '/snapshots',
    '/profiles',
    '/profiles/quayside',
    '/nowhere/at/all',
  ];

  it('can be read by everybody, light and dark, has one heading of the first rank, and a title of its own', async () => {
    const titles = new Set<string>();
    for (const path of ROOMS) {
      await page.emulateMedia({ colorScheme: 'light', reducedMotion: 'reduce' });
      await room(path);
      await settled();
      expect([path, await faults()]).toEqual([path, []]);
      await page.emulateMedia({ colorScheme: 'dark' });
      // What a page says is the same in the dark; its colours are not.
      expect([path, 'dark', await browsing.faults(page, ['color-contrast'])]).toEqual([path, 'dark', []]);
      expect([path, await page.locator('h1').count()]).toEqual([path, 1]);
      titles.add(await page.title());
    }
    await page.emulateMedia({ colorScheme: 'light', reducedMotion: 'no-preference' });
    expect([...titles]).toEqual([
      'Fleet · Tessarion',
      'threadmill · Tessarion',
      'New copy of threadmill · Tessarion',
      'Forecast of threadmill · Tessarion',
      'Transfers · Tessarion',
      'Snapshots · Tessarion',
      'Profiles · Tessarion',
      'Profile quayside · Tessarion',
      'Nowhere · Tessarion',
    ]);
  });

  it('moves nothing for those who want it still', async () => {
    await page.emulateMedia({ reducedMotion: 'reduce' });
    await room('/');
    await settled();
    const moving = await page.evaluate(
      () =>
        [...document.querySelectorAll('*')].filter((one) => {
          const { animationName, animationDuration, transitionDuration } = getComputedStyle(one);
          const seconds = (text: string): number => Math.max(...text.split(',').map((part) => Number.parseFloat(part)));
          return (animationName !== 'none' && seconds(animationDuration) > 0.01) || seconds(transitionDuration) > 0.01;
        }).length,
    );
    expect(moving).toBe(0);
    await page.emulateMedia({ reducedMotion: 'no-preference' });
  });

  it('says what is wrong when the service answers with a problem, and when it does not answer', async () => {
    for (const [pattern, path] of [
      ['**/api/v1/fleet', '/'],
      ['**/api/v1/sites/threadmill', '/sites/threadmill'],
      ['**/api/v1/transfers?*', '/transfers'],
      ['**/api/v1/snapshots*', '/snapshots'],
    ] as const) {
      await page.route(pattern, (route) =>
        route.fulfill({
          status: 503,
          contentType: 'application/problem+json',
          json: {
            type: 'tessarion:unavailable',
            title: 'The records cannot be reached',
            status: 503,
            detail: 'The database of the records refuses connections.',
            next: 'See that it runs.',
          },
        }),
      );
      await room(path);
      const alert = page.getByRole('alert').first();
      await alert.getByText('The database of the records refuses connections.').waitFor();
      await alert.getByText('See that it runs.').waitFor();
      await page.unroute(pattern);
    }
    await page.route('**/api/v1/me', (route) => route.abort());
    await room('/');
    await page.getByRole('button', { name: 'Try again' }).waitFor();
    expect(await faults()).toEqual([]);
    await page.unroute('**/api/v1/me');
    await page.getByRole('button', { name: 'Try again' }).click();
    await page.getByRole('link', { name: 'threadmill' }).first().waitFor();
  });
});

it('says so when a room cannot be fetched, and opens it when it can', async () => {
  await page.route('**/assets/transfers-*.js', (route) => route.abort());
  await room('/');
  await settled();
  await page.getByRole('navigation', { name: 'Rooms' }).getByRole('link', { name: 'Transfers' }).click();
  await page.getByRole('alert').waitFor();
  await page.getByText('loading it again helps').waitFor();
  expect(await faults()).toEqual([]);
  await page.unroute('**/assets/transfers-*.js');
  await page.getByRole('button', { name: 'Load it again' }).click();
  await page.getByRole('heading', { name: 'Transfers' }).waitFor();
});

describe('the fleet', () => {
  it('tells a newcomer what to do when there is nothing yet', async () => {
    await answerSites([]);
    await room('/');
    await page.getByText('No sites yet').waitFor();
    await page.getByRole('main').getByRole('link', { name: 'Bring in a site' }).waitFor();
    expect(await faults()).toEqual([]);
    await page.unroute('**/api/v1/fleet');
  });

  it('stays quick with 2,000 sites: few elements, filtered as one types, and the end can be reached', async () => {
    const states = ['in-step', 'drifted', 'failed', 'not-reached'] as const;
    await answerSites(
      await fleetOf(2000, (site, i) => ({
        ...site,
        environments: site.environments.map((one) => ({
          ...one,
          state: states[i % 50 === 0 ? 3 : i % 3] ?? 'in-step',
        })),
      })),
    );
    const before = Date.now();
    await room('/');
    await page.locator('[data-site]').first().waitFor();
    expect(Date.now() - before).toBeLessThan(10_000);
    await page.getByText('2,000').first().waitFor();
    expect(await page.locator('*').count()).toBeLessThan(2500);
    await page.keyboard.press('/');
    await page.keyboard.type('site-1999');
    await page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    await page.getByText('site-1999').first().waitFor();
    await page.keyboard.press('Control+a');
    await page.keyboard.press('Delete');
    await page.keyboard.press('Escape');
    await page.waitForFunction(() => document.querySelectorAll('[data-site]').length > 5);
    await page.getByRole('button', { name: /not reached/ }).click();
    await page.waitForURL(/state=not-reached/);
    expect(await faults()).toEqual([]);
    await page.unroute('**/api/v1/fleet');
  });

  it('keeps its form with names that are longer than any column', async () => {
    const long = 'the-name-of-a-site-that-nobody-should-have-given-to-it-but-somebody-did-all-the-same';
    await answerSites(
      await fleetOf(20, (site, i) => ({
        ...site,
        name: `${long}-${i}`,
        client: 'A client whose name goes on & on & on, with <markup> and "quotes" in it, for a very long time indeed',
        environments: site.environments.map((one) => ({ ...one, reason: `${long} `.repeat(6) })),
      })),
    );
    for (const width of [1280, 360]) {
      await page.setViewportSize({ width, height: 800 });
      await room('/');
      await page.locator('[data-site]').first().waitFor();
      const over = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth);
      expect([width, over <= 0]).toEqual([width, true]);
      expect(await page.getByText('<markup>').first().count()).toBe(1);
    }
    await page.setViewportSize({ width: 1280, height: 800 });
    await page.unroute('**/api/v1/fleet');
  });

  it('follows what happens without being asked', async () => {
    await room('/');
    await settled();
    const transfer = await studio.client.call('snapshotTake', { body: { environment: LIVE } });
    await done(studio, transfer);
    const copy = await studio.client.call('environmentCreate', {
      params: { site: 'threadmill' },
      body: { name: 'while-watching', kind: 'dev' },
    });
    await page.getByText('On the move').waitFor();
    await done(studio, copy);
    await page.getByRole('link', { name: /threadmill: .*while-watching/ }).waitFor();
    await ended(
      studio,
      await studio.client.call('environmentRemove', {
        params: { site: 'threadmill', environment: 'while-watching' },
        query: { confirm: 'threadmill/while-watching' },
      }),
    );
    await page.getByRole('link', { name: /threadmill: (?!.*while-watching)/ }).waitFor();
  });
});

describe('a new copy', () => {
  it('is made from a snapshot, without what is left out', async () => {
    await done(studio, await studio.client.call('snapshotTake', { body: { environment: LIVE } }));
    await room('/snapshots');
    await page.getByRole('link', { name: 'Copy' }).first().click();
    await page.waitForURL(/new\?snapshot=s-/);
    await page.getByText(/as it was on/).waitFor();
    await page.getByRole('radio', { name: /dev/ }).check({ force: true });
    await page.getByLabel('Name').fill('from-then');
    await page.getByRole('button', { name: /^Leave something out/ }).click();
    await page.getByRole('group', { name: 'Leave out rows of' }).getByLabel('review').check();
    await page.getByLabel('Leave out paths').fill('styles/site.css, nowhere');
    await page.getByText('without rows of review, styles/site.css, nowhere').waitFor();
    expect(await faults()).toEqual([]);
    await page.getByRole('button', { name: 'Make threadmill/from-then' }).click();
    await page.getByRole('status').getByText('Done').waitFor({ timeout: 30_000 });
    const reviews = await onSite(studio, 'threadmill/from-then', (query) =>
      query('SELECT count(*)::int AS n FROM review'),
    );
    expect(reviews).toEqual([{ n: 0 }]);
    const shown = await studio.client.call('environmentShow', {
      params: { site: 'threadmill', environment: 'from-then' },
    });
    expect([shown.kind, shown.madeFrom]).toEqual(['dev', expect.stringContaining('snapshot s-')]);
  });

  it('is refused by name when its name is taken, in the room and not after it', async () => {
    await room('/sites/threadmill/new');
    await page.getByLabel('Name').fill('staging');
    await page.locator('[aria-invalid=true]').waitFor();
    expect(await page.getByRole('button', { name: /^Make threadmill/ }).isDisabled()).toBe(true);
    await page.getByLabel('Name').fill('fresh');
    await page.locator('[aria-invalid=false] ~ #name-note').getByText('threadmill--fresh').waitFor();
    expect(await page.getByRole('button', { name: 'Make threadmill/fresh' }).isEnabled()).toBe(true);
  });
});

describe('a transfer that has ended', () => {
  const acts = () => page.locator('main a, main button').allTextContents();

  it('leads to what it made, and says how long it took in one line', async () => {
    const made = await done(
      studio,
      await studio.client.call('environmentCreate', {
        params: { site: 'threadmill' },
        body: { name: 'led-to', kind: 'dev' },
      }),
    );
    await room(`/transfers/${made.id}`);
    await page.getByRole('button', { name: 'Open threadmill/led-to' }).waitFor();
    expect((await acts()).map((text) => text.trim())).toEqual(
      expect.arrayContaining(['Open threadmill/led-to', 'Its room and login', 'Forecast']),
    );
    expect(await faults()).toEqual([]);
    const steps = page.locator('[data-step]');
    expect(await steps.count()).toBe(0);
    await page.getByRole('button', { name: /in \d+ steps/ }).click();
    await expect.poll(() => steps.count()).toBeGreaterThan(3);
    await page.getByRole('link', { name: 'Its room and login' }).click();
    await page.getByRole('heading', { name: 'threadmill/led-to' }).waitFor();
  });

  it('that failed is begun anew where it is told, and nothing is said to have been written', async () => {
    await onSite(studio, COPY, (query) => query("UPDATE product SET title = 'An apron' WHERE slug = 'apron'"));
    const forecast = await forecastOf(studio, COPY, LIVE);
    await onSite(studio, LIVE, (query) => query("UPDATE product SET title = 'Another apron' WHERE slug = 'apron'"));
    const failed = await ended(
      studio,
      await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } }),
    );
    expect(failed.state).toBe('failed');
    await room(`/transfers/${failed.id}`);
    await page.getByRole('link', { name: 'Forecast again' }).waitFor();
    expect(await page.getByLabel('In figures').textContent()).not.toContain('written');
    await page.getByRole('link', { name: 'Forecast again' }).click();
    await page.waitForURL((url) => url.pathname.endsWith('/forecast') && url.searchParams.get('from') === COPY);
    await page.getByText('to settle').first().waitFor();
  });
});

describe('the forecast', () => {
  it('is gone through with the keyboard alone, and keeps its place in the address', async () => {
    await onSite(studio, COPY, (query) =>
      query("UPDATE product SET description = description || ' And more.'; UPDATE page SET body = body || '<p>x</p>'"),
    );
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`);
    await page.locator('[data-item]').nth(3).waitFor();
    const current = (): Promise<string | null> => page.locator('[data-item][data-current]').first().textContent();
    const step = async (key: 'j' | 'k', from: string | null): Promise<string | null> => {
      await page.keyboard.press(key);
      await expect.poll(current).not.toBe(from);
      return current();
    };
    const first = await step('j', await current());
    await page.waitForURL(/[?&]item=/);
    const second = await step('j', first);
    expect(await step('k', second)).toBe(first);
    const address = page.url();
    await page.reload();
    await page.locator('[data-item]').nth(3).waitFor();
    expect(page.url()).toBe(address);
    await expect.poll(current).toBe(first);
  });

  it('shows why it may not be written, and offers no button for it', async () => {
    await onSite(studio, LIVE, async (query) => {
      await query("INSERT INTO customer (id, name, email) VALUES (700, 'A', 'a@post.example')");
      await query("INSERT INTO purchase (id, customer_id, total, payment_mode) VALUES (700, 700, 1, 'live')");
      await query(
        "INSERT INTO purchase_line (purchase_id, product_id, quantity, price) SELECT 700, id, 1, 1 FROM product WHERE slug = 'apron'",
      );
    });
    await onSite(studio, COPY, async (query) => {
      await query("DELETE FROM product WHERE slug = 'apron'");
      await query("INSERT INTO product (slug, title, description, price) VALUES ('apron', 'Another', '', 1)");
    });
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`);
    await page.getByText(/^It cannot go: \d rows? of purchase_line on live/).waitFor();
    await page.keyboard.press('n');
    await page.getByText('It wants the slug “apron”').waitFor();
    await page.getByText(/^Settle \d collisions first/).waitFor();
    const field = page.getByLabel(/Onto live: type/);
    if ((await field.count()) > 0) await field.fill(LIVE);
    const button = page.getByRole('button', { name: /^Write .* onto live/ });
    if ((await button.count()) > 0) expect(await button.isDisabled()).toBe(true);
    expect(await faults()).toEqual([]);
    await page.emulateMedia({ colorScheme: 'dark', reducedMotion: 'reduce' });
    await page.locator('[data-item]', { hasText: 'Linen apron' }).click();
    await page.getByRole('region', { name: 'Values' }).locator('em', { hasText: 'deleted' }).first().waitFor();
    expect(await browsing.faults(page, ['color-contrast']), 'in the dark').toEqual([]);
    await page.emulateMedia({ colorScheme: 'light', reducedMotion: 'no-preference' });
    await onSite(studio, COPY, (query) => query("DELETE FROM product WHERE title = 'Another'"));
  });
});

describe('the room of a site', () => {
  it('says when a thing came, and keeps tags', async () => {
    const { client } = studio;
    await client.call('siteTag', { params: { site: 'threadmill' }, body: { tags: [] }, etag: '*' });
    await onSite(studio, COPY, (query) => query("UPDATE product SET title = 'Bag of bags' WHERE slug = 'bag'"));
    await done(studio, await pushOnto(studio, COPY, LIVE, { wishes: { only: ['product:3'] } }));
    await room('/sites/threadmill?at=live');
    await settled();
    const history = page.getByRole('region', { name: 'What changed here' });
    await history.getByText('Bag of bags').waitFor();
    // By the title that it had before, too.
    await page.getByLabel('Find by a title that it has or had').fill('Market bag');
    await history.getByText('“Market bag” before').waitFor();
    expect(await history.textContent()).toContain('push by Maren Brask');
    expect(await history.getByRole('link', { name: 'Take it back' }).count()).toBe(1);
    await page.getByLabel('Find by a title that it has or had').fill('Something else');
    await history.getByText('No transfer has written a thing called “Something else”').waitFor();
    await page.keyboard.press('Escape');
    expect(await faults()).toEqual([]);

    await page.getByRole('button', { name: /^About live/ }).click();
    await page.getByRole('button', { name: 'Give it some' }).click();
    await page.getByLabel('Tags').fill('Shop!');
    await page.getByRole('button', { name: 'Keep' }).click();
    await page.getByText('use lower-case letters').waitFor();
    expect(await page.getByLabel('Tags').inputValue(), 'what was typed stays').toBe('Shop!');
    await page.getByLabel('Tags').fill('shop, north shop');
    await page.getByRole('button', { name: 'Keep' }).click();
    await page.getByText('north, shop').waitFor();
    expect((await client.call('siteShow', { params: { site: 'threadmill' } })).tags).toEqual(['north', 'shop']);
    await room('/?find=north');
    await settled();
    await page.getByText('threadmill').first().waitFor();
  });

  it('keeps what was typed when somebody was quicker, and writes it only once they know', async () => {
    const { client } = studio;
    const params = { site: 'threadmill' };
    const tagsNow = async (): Promise<string[]> => (await client.call('siteShow', { params })).tags;
    await client.call('siteTag', { params, body: { tags: ['shop'] }, etag: '*' });
    await room('/sites/threadmill?at=live');
    await page.getByRole('button', { name: /^About live/ }).click();
    const tags = page.locator('dd', { hasText: 'shop' });
    await tags.getByRole('button', { name: 'Change' }).click();
    await page.getByLabel('Tags').fill('north');
    await client.call('siteTag', { params, body: { tags: ['south'] }, etag: '*' });
    await page.getByRole('button', { name: 'Keep', exact: true }).click();
    const quicker = page.getByRole('alert').filter({ hasText: 'Somebody was quicker' });
    await quicker.getByText('south').waitFor();
    expect(await page.getByLabel('Tags').inputValue()).toBe('north');
    expect(await tagsNow()).toEqual(['south']);
    expect(await faults()).toEqual([]);
    await quicker.getByRole('button', { name: 'Write mine over it' }).click();
    await expect.poll(tagsNow).toEqual(['north']);

    const environment = { params: { ...params, environment: 'staging' } };
    await room('/sites/threadmill?at=staging');
    await page.getByRole('button', { name: /^About staging/ }).click();
    await page.getByRole('button', { name: 'Set a time' }).click();
    await client.call('environmentEdit', { ...environment, body: { description: 'Autumn' }, etag: '*' });
    await page.getByLabel('Time of day').fill('04:45');
    await page
      .locator('form', { has: page.getByLabel('Time of day') })
      .getByRole('button', { name: 'Keep' })
      .click();
    await page.getByRole('button', { name: 'Write mine over it' }).click();
    await page.getByText('at 04:45, every day').waitFor();
    const shown = await client.call('environmentShow', environment);
    expect([shown.description, shown.schedule?.at]).toEqual(['Autumn', '04:45']);
    await client.call('environmentEdit', {
      ...environment,
      body: { schedule: null, description: null },
      etag: shown.etag,
    });
  });

  it('shows a copy to a guest, and answers them', async () => {
    await room('/sites/threadmill');
    await settled();
    await page.getByRole('button', { name: 'Show a copy to a guest' }).click();
    await page.getByRole('group', { name: 'What they look at' }).getByLabel('staging').check();
    await page.getByLabel('Name', { exact: true }).fill('Vera Lund');
    await page.getByRole('button', { name: 'Make the link' }).click();
    const link = await page.getByLabel('Link').inputValue();
    expect(await faults()).toEqual([]);
    const guest = await comeIn(studio, link);
    await guest.call('guestSay', { params: { position: 0 }, body: { text: 'Is the blue meant?' } });
    await page.getByRole('button', { name: 'Done' }).click();
    await page.reload();
    await settled();
    await page.getByText('Is the blue meant?').waitFor();
    await page.getByLabel('Answer').fill('It is.');
    await page.getByRole('region', { name: 'Guests' }).getByRole('button', { name: 'Answer' }).click();
    await page.locator('article', { hasText: 'It is.' }).waitFor();
    const { looks } = await guest.call('guestRoom');
    expect(looks[0]?.threads[0]?.comments.map((one) => one.text)).toEqual(['Is the blue meant?', 'It is.']);
    expect(await faults()).toEqual([]);
  });
});

describe('transfers and who one is', () => {
  it('narrows the list down, goes through it by keyboard and opens one', async () => {
    await room('/transfers');
    await page.locator('tbody tr[data-row]').first().waitFor();
    await page.getByLabel('Kind').selectOption('clone');
    await page.waitForURL(/kind=clone/);
    await page.waitForFunction(() =>
      [...document.querySelectorAll('tbody tr[data-row]')].every((row) => row.children[1]?.textContent === 'clone'),
    );
    await page.keyboard.press('Escape');
    await page.locator('h1').click();
    await page.keyboard.press('j');
    await page.locator('tr[aria-current]').waitFor();
    await page.keyboard.press('Enter');
    await page.waitForURL(/transfers\/t-/);
    await page.getByRole('button', { name: /in \d+ steps/ }).click();
    await page.getByText('Copy rows and files').waitFor();
    await page.goBack();
    await page.waitForURL(/kind=clone/);
    await page.getByLabel('State').selectOption('failed');
    await page.getByText('No transfers fit').waitFor();
  });

  /** Saves the list that is shown, and reads what came. */
  const saved = async (form: 'CSV' | 'JSON Lines'): Promise<{ name: string; text: string }> => {
    const coming = page.waitForEvent('download');
    await page.getByRole('link', { name: form }).click();
    const download = await coming;
    return { name: download.suggestedFilename(), text: await readFile(await download.path(), 'utf8') };
  };

  it('narrows them to a person and to days, and saves what is shown', async () => {
    await room('/transfers');
    await page.locator('tbody').getByRole('button', { name: 'Maren Brask' }).first().click();
    await page.waitForURL(/person=Maren/);
    await page.getByLabel('Kind').selectOption('clone');
    await page.waitForFunction(() =>
      [...document.querySelectorAll('tbody tr[data-row]')].every((row) => row.children[1]?.textContent === 'clone'),
    );
    await page.getByText('No transfers fit').waitFor({ state: 'detached' });
    const { name, text } = await saved('CSV');
    expect(name).toBe('transfers.csv');
    const [head, ...lines] = text.trim().split('\r\n');
    expect(head).toMatch(/^id,at,kind/);
    expect(lines.length).toBe(await page.locator('tbody tr[data-row]').count());
    for (const line of lines) expect(line).toMatch(/,clone,.*,Maren Brask,/);
    await page.getByLabel('Until').fill('2020-01-01');
    await page.getByText('No transfers fit').waitFor();
    expect(await faults()).toEqual([]);
  });

  it('narrows the journal to days, and saves it', async () => {
    await room('/journal?act=siteAdopt');
    await page.getByText('brought in').first().waitFor();
    const day = await page.evaluate(() => new Date().toLocaleDateString('sv'));
    await page.getByLabel('Since').fill(day);
    await page.getByLabel('Until').fill(day);
    await page.waitForURL(/until=/);
    await page.locator('tbody tr').first().waitFor();
    const { name, text } = await saved('JSON Lines');
    expect(name).toBe('journal.jsonl');
    const entries = text
      .trim()
      .split('\n')
      .map((line) => JournalEntry.parse(JSON.parse(line)));
    expect(entries.map((one) => one.act)).toContain('siteAdopt');
    await page.getByLabel('Until').fill('2020-01-01');
    await page.getByText('Nothing fits').waitFor();
    expect(await faults()).toEqual([]);
  });

  it('shows a transfer that does not exist as what it is', async () => {
    await room('/transfers/t-0000000000');
    await page.getByRole('alert').getByText('t-0000000000').waitFor();
    expect(await faults()).toEqual([]);
  });

  it('lists the keys, and signs out for good', async () => {
    await room('/');
    await settled();
    await page.keyboard.press('?');
    await page.getByRole('dialog').getByText('Find').first().waitFor();
    expect(await faults()).toEqual([]);
    await page.keyboard.press('Escape');
    await page.getByRole('dialog').waitFor({ state: 'detached' });
    const other = await browsing.signedIn();
    await other.getByRole('button', { name: /account/ }).click();
    await other.getByRole('menuitem', { name: 'Sign out' }).click();
    await other.waitForURL(/sign-in/);
    await other.goto(`${studio.url}/transfers`);
    await other.waitForURL(/sign-in\?to=%2Ftransfers/);
    await other.close();
  });
});

it('shows that a site is frozen as soon as it is, and no longer', async () => {
  await room('/sites/threadmill');
  await page.getByRole('heading', { name: 'threadmill' }).first().waitFor();
  const { id } = await studio.client.call('freezeAdd', {
    body: {
      reason: 'Stock is counted',
      scope: 'everything',
      time: { repeats: 'never', from: '2020-01-01T00:00', until: '2099-01-01T00:00' },
    },
  });
  await page.getByText('Stock is counted').first().waitFor();
  await studio.client.call('freezeRemove', { params: { id } });
  await page.getByText('Stock is counted').first().waitFor({ state: 'detached' });
});

it('fetches a room only when somebody goes there', async () => {
  const html = await readFile(fileURLToPath(new URL('../packages/console/dist/index.html', import.meta.url)), 'utf8');
  const first = [...html.matchAll(/assets\/[\w-]+\.js/g)].map((match) => match[0]);
  const asked: string[] = [];
  const fresh = await browsing.signedIn();
  fresh.on('request', (request) => {
    if (request.url().endsWith('.js')) asked.push(request.url());
  });
  await fresh.goto(`${studio.url}/`);
  await fresh.getByText('On the move').waitFor();
  expect(asked.some((url) => url.includes('forecast'))).toBe(false);
  await fresh.goto(`${studio.url}/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`);
  await fresh.locator('[data-item]').first().waitFor();
  expect(asked.some((url) => url.includes('forecast'))).toBe(true);
  expect(first.length).toBeGreaterThan(0);
  await fresh.close();
});
