import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { done, forecastOf, newcomer, onSite, pushOnto, type Studio, startStudio, tessarion } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
  await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Dyes' WHERE slug = 'dye'"));
  await done(studio, await pushOnto(studio, COPY, LIVE));
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
}, 180_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const room = (path: string): Promise<unknown> => page.goto(studio.url + path);
const button = (name: string | RegExp) => page.getByRole('button', { name });

describe('several sites at once', { shuffle: false }, () => {
  it('are chosen by keys, and tagged together', async () => {
    await room('/');
    await page.locator('[data-row]').first().waitFor();
    await page.keyboard.press('j');
    await page.keyboard.press('Space');
    await page.getByText('1 site chosen').waitFor();
    await button('Tag').click();
    await page.getByLabel('Tag, such as shop').fill('autumn');
    await page.keyboard.press('Enter');
    await button('Do it').click();
    await page.getByText('1 done').waitFor();
    expect(await browsing.faults(page)).toEqual([]);
    expect((await studio.client.call('siteShow', { params: { site: 'threadmill' } })).tags).toContain('autumn');
    await page.getByRole('button', { name: 'Close' }).click();
    await button('None').click();
    await page.getByText('1 site chosen').waitFor({ state: 'detached' });
  });

  it('get live’s news, but for what a person has to settle', async () => {
    await room('/');
    await page.getByLabel('Choose all sites that are shown').check();
    const bring = async (): Promise<void> => {
      await button('Bring live’s news').click();
      await button('Do it').click();
    };
    await bring();
    await page.getByRole('dialog').getByText('had all of it').waitFor({ timeout: 60_000 });
    await button('Close').click();
    await onSite(studio, LIVE, (query) => query("UPDATE product SET price = 40 WHERE slug = 'apron'"));
    await bring();
    await page.getByRole('dialog').getByRole('link', { name: 'is on its way' }).waitFor({ timeout: 60_000 });
    await button('Close').click();
    await expect
      .poll(async () => {
        const [row] = await onSite(studio, COPY, (query) => query("SELECT price FROM product WHERE slug = 'apron'"));
        return row?.price;
      })
      .toBe('40.00');
    await onSite(studio, LIVE, (query) => query("UPDATE product SET price = 41 WHERE slug = 'apron'"));
    await onSite(studio, COPY, (query) => query("UPDATE product SET price = 42 WHERE slug = 'apron'"));
    await expect
      .poll(async () => (await studio.client.call('transferList', { query: { state: 'running' } })).items)
      .toEqual([]);
    await bring();
    await page.getByRole('dialog').getByText('1 collision to settle first').waitFor({ timeout: 60_000 });
  });

  it('are locked for who may not act upon all of them', async () => {
    await newcomer(studio, 'lise.aune@copperlane.example', 'reviewer', 'threadmill', 'Lise Aune');
    const lise = await browsing.signedIn('lise.aune@copperlane.example');
    await lise.getByLabel('Choose threadmill').check();
    const acts = lise.getByRole('toolbar', { name: 'Acts upon the chosen sites' });
    await acts.locator('[aria-disabled=true]', { hasText: 'Freeze' }).waitFor();
    expect(await acts.getByRole('button').allTextContents()).toEqual([' None']);
  });
});

describe('what was and what comes', { shuffle: false }, () => {
  it('stands in a month of deliveries, and on a site’s own axis, with a table of the same', async () => {
    const { client } = studio;
    const { id: forecast } = await forecastOf(studio, COPY, LIVE, { wishes: { rest: 'source' } });
    const { id } = await client.call('requestOpen', { body: { forecast, title: 'Prices' } });
    await client.call('freezeAdd', {
      body: {
        reason: 'The fair',
        scope: 'threadmill',
        time: { repeats: 'yearly', from: '01-01', until: '12-31' },
      },
    });
    await room('/windows?as=month');
    const today = page.locator('[aria-current=date]');
    await today.getByText('The fair').waitFor();
    await today.getByRole('link', { name: /threadmill/ }).waitFor();
    await button('The month before').click();
    await page.waitForURL(/month=\d{4}-\d{2}/);
    await button('This month').click();
    expect(await browsing.faults(page)).toEqual([]);

    await client.call('requestAsk', { params: { id } });
    await room('/sites/threadmill/timeline?span=week');
    const lanes = page.getByRole('region', { name: 'Timeline' });
    await lanes
      .getByRole('link', { name: /^\d+ moves from|^push, done/ })
      .first()
      .waitFor();
    await lanes.getByText('Prices').waitFor();
    const table = page.getByRole('region', { name: 'As a table' });
    await table.getByRole('cell', { name: 'push', exact: true }).waitFor();
    await table.getByRole('cell', { name: 'freeze' }).first().waitFor();
    await table.getByRole('link', { name: 'Prices' }).click();
    await page.waitForURL(/\/requests\/q-/);
    await client.call('requestWithdraw', { params: { id }, body: { reason: 'The test is over.' } });
  });

  it('is told in figures, of what was measured and no more', async () => {
    const { client, records } = studio;
    await client.call('figuresShow', {});
    await records.query(
      'INSERT INTO measure (environment, day, up, down, bytes) VALUES ($1, current_date - 14, 7, 1, 5000000), ($1, current_date - 15, 3, 0, 1)',
      [COPY],
    );
    const figures = await client.call('figuresShow', { query: { site: 'threadmill' } });
    // Three weeks are known of, or four where the days fall in two.
    expect(figures.drift.length).toBeGreaterThanOrEqual(3);
    expect(figures.drift.length).toBeLessThanOrEqual(4);
    expect(figures.drift.some(({ up, down }) => up === 7 && down === 1)).toBe(true);
    expect(figures.transfers.at(-1)?.done).toBeGreaterThan(2);
    expect(figures.visits).toHaveLength(24);
    const printed = await tessarion(studio, ['figures', '--site', 'threadmill']);
    expect(printed.out).toContain('waits to go up');
    expect(printed.out).toMatch(/\b7\b/);
    await room('/figures?site=threadmill');
    await page.getByRole('img', { name: 'Items that waited, week by week' }).waitFor();
    await button('As a table').first().click();
    await page.getByRole('cell', { name: '7', exact: true }).waitFor();
    expect(await browsing.faults(page)).toEqual([]);
    const stranger = await newcomer(studio, 'ida.moe@copperlane.example', 'observer', 'threadmill/live', 'Ida Moe');
    const seen = await stranger.call('figuresShow', {});
    expect(
      seen.drift.every(({ up }) => up === 0),
      'nothing of the copy',
    ).toBe(true);
    expect(seen.transfers.at(-1)?.done).toBeLessThan(figures.transfers.at(-1)?.done ?? 0);
  });
});

describe('what one keeps for oneself', { shuffle: false }, () => {
  it('is a view under a name, for oneself alone', async () => {
    await room('/transfers?kind=push&state=done');
    await button('Keep this view').click();
    await page.getByRole('dialog').getByLabel('Name').fill('What went up');
    await button('Keep it').click();
    await button('What went up').waitFor();
    await page.getByLabel('Kind').selectOption('clone');
    await page.waitForURL(/kind=clone/);
    await button('What went up').click();
    await page.waitForURL(/kind=push/);
    await expect.poll(() => button('What went up').getAttribute('aria-pressed')).toBe('true');
    const [kept] = await studio.client.call('viewList');
    expect(kept).toMatchObject({ room: 'transfers', name: 'What went up', query: 'kind=push&state=done' });
    const other = await newcomer(studio, 'odd.rye@copperlane.example', 'operations', 'threadmill', 'Odd Rye');
    expect(await other.call('viewList')).toEqual([]);
    await expect(other.call('viewRemove', { params: { id: kept?.id ?? '' } })).rejects.toThrow(/keep no view/);
    await button('Forget this view').click();
    await expect.poll(() => studio.client.call('viewList')).toEqual([]);
  });

  it('is how the console looks in this browser', async () => {
    await room('/settings');
    const choose = (group: string, name: string) =>
      page.getByRole('navigation', { name: group }).getByRole('button', { name, exact: true }).click();
    await choose('Theme', 'dark');
    await choose('Rows of lists', 'close');
    await choose('Clock', '12 hours');
    await choose('Times are of', 'UTC');
    await page.getByLabel(/^Single keys/).uncheck();
    await page.reload();
    const scheme = () => page.evaluate(() => getComputedStyle(document.documentElement).colorScheme);
    expect(await scheme()).toBe('dark');
    expect(await page.getByRole('button', { name: '12 hours' }).getAttribute('aria-pressed')).toBe('true');
    await page
      .getByText(/since .* [ap]m UTC/)
      .first()
      .waitFor();
    await room('/');
    await page.locator('[data-row]').first().waitFor();
    expect((await page.locator('[data-row]').first().boundingBox())?.height).toBeLessThan(28);
    await page.keyboard.press('j');
    expect(await page.locator('[data-current]').count()).toBe(0);
    await page.evaluate(() => localStorage.clear());
    await page.reload();
    expect(await scheme()).toBe('light dark');
  });

  it('is told of by the thing, day by day', async () => {
    await room('/notices');
    await page.getByText('Push from threadmill/staging').first().waitFor();
    await page.getByRole('heading', { level: 2 }).first().waitFor();
    await page.getByLabel('Which').selectOption('not seen');
    await page.waitForURL(/which=not/);
    expect(await browsing.faults(page)).toEqual([]);
  });
});
