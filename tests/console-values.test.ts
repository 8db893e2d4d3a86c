import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { forecastOf, makeCopy, onSite, type Studio, saveProfile, startStudio } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const OTHER = 'threadmill/other';

beforeAll(async () => {
  studio = await startStudio('staging');
  await makeCopy(studio, 'threadmill', 'other');
  await onSite(studio, COPY, async (query) => {
    await query(
      "UPDATE page SET title = 'Dyes', body = '<h1>Dyes</h1><p>Madder and <b>woad</b>.</p>', updated_at = now(), updated_by = (SELECT min(id) FROM editor) WHERE slug = 'dye'",
    );
    await query("UPDATE product SET price = 1200, image = 'products/throw.svg' WHERE slug = 'apron'");
    await query("UPDATE product SET title = 'A bag of ours' WHERE slug = 'bag'");
  });
  await onSite(studio, OTHER, async (query) => {
    await query("UPDATE product SET title = 'A bag of theirs' WHERE slug = 'bag'");
    await query("UPDATE product SET price = 90 WHERE slug = 'throw'");
  });
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
}, 180_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const room = (path: string): Promise<unknown> => page.goto(studio.url + path);
/** The address may hold the id of the forecast already, and be written anew. */
const forecastRoom = (from: string): Promise<void> =>
  page.waitForURL(({ pathname, searchParams }) => pathname.endsWith('/forecast') && searchParams.get('from') === from);
const row = (name: string) => page.locator(`[data-field="${name}"]`);

describe('values of an item', { shuffle: false }, () => {
  it('are read as people read them: named, in order, pages as text, amounts, moments', async () => {
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}&item=page:2`);
    await row('body').waitFor();
    expect(await row('title').locator('span').first().textContent()).toContain('Title');
    const text = await row('body').textContent();
    expect(text).toContain('Madder and woad.');
    expect(text).not.toContain('<p>');
    await page.getByRole('button', { name: 'Text as it is written' }).click();
    await expect.poll(() => row('body').textContent()).toContain('<b>woad</b>');
    // Keys and bookkeeping wait behind the others.
    expect(await row('updated_by').count()).toBe(0);
    await page.getByRole('button', { name: /^2 more fields/ }).click();
    await row('updated_by').waitFor();
    expect(await row('updated_at').textContent()).toMatch(/\d{2}:\d{2}:\d{2}/);
    expect(await browsing.faults(page)).toEqual([]);
  });

  it('say who changed each side and when, and are narrowed to a person', async () => {
    const [editor] = await onSite(studio, COPY, (query) => query('SELECT name FROM editor ORDER BY id LIMIT 1'));
    const { client } = studio;
    const { id } = await forecastOf(studio, COPY, LIVE);
    const { items } = await client.call('forecastItems', { params: { id }, query: {} });
    const dye = items.find((one) => one.id === 'page:2');
    expect(dye?.changed.source?.by).toBe(editor?.name);
    expect(Date.now() - Date.parse(dye?.changed.source?.at ?? '')).toBeLessThan(600_000);
    expect(dye?.changed.destination?.at).not.toBeNull();
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}&item=page:2`);
    await page.locator('[data-stamp=source]', { hasText: String(editor?.name) }).waitFor();
    await page.getByLabel('By').selectOption(String(editor?.name));
    await expect.poll(() => page.locator('[data-item]').count()).toBe(1);
    // On the command line and in the interface one is named by that name, too.
    const { written } = await forecastOf(studio, COPY, LIVE, { wishes: { only: [`by:${editor?.name}`] } });
    expect(written).toMatchObject([{ count: 1, kind: 'page' }]);
  });

  it('show the picture that a field names, of each side, and no other file', async () => {
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}&item=product:1`);
    await row('image').locator('img').nth(2).waitFor();
    const sources = await row('image')
      .locator('img')
      .evaluateAll((all) => all.map((one) => (one as HTMLImageElement).src));
    expect(new Set(sources).size).toBe(2);
    expect(await row('price').textContent()).toContain('1,200.00');
    const { client } = studio;
    const { id } = await forecastOf(studio, COPY, LIVE);
    const look = (query: { item: string; side: 'source'; field?: string }) =>
      client.call('forecastFile', { params: { id }, query });
    expect(await look({ item: 'product:1', side: 'source', field: 'image' })).toMatchObject({
      is: 'picture',
      type: 'image/svg+xml',
    });
    await expect(look({ item: 'product:1', side: 'source', field: 'price' })).rejects.toThrow(/names a picture/);
    await onSite(studio, COPY, (query) =>
      query("UPDATE product SET image = '../../config/site.env#x.svg' WHERE slug = 'apron'"),
    );
    const { id: anew } = await forecastOf(studio, COPY, LIVE);
    expect(
      await client.call('forecastFile', {
        params: { id: anew },
        query: { item: 'product:1', side: 'source', field: 'image' },
      }),
    ).toEqual({ is: 'absent' });
  });

  it('are shown as they are written where they would be read alike', async () => {
    const linked = (to: string) =>
      `UPDATE page SET body = '<p>See <a href="/${to}">the dyes</a>.</p>' WHERE slug = 'home'`;
    for (const path of [COPY, LIVE]) await onSite(studio, path, (query) => query(linked('old')));
    await onSite(studio, COPY, (query) => query(linked('new')));
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}&item=page:1`);
    await expect.poll(() => row('body').textContent()).toContain('href="/new"');
    await onSite(studio, COPY, (query) =>
      query("UPDATE page SET body = '<p>See <b>nothing</b>.</p>' WHERE slug = 'home'"),
    );
    await page.getByRole('button', { name: 'Forecast again' }).click();
    await expect.poll(() => row('body').textContent()).toContain('See nothing.');
  });

  it('begin with both changes where a person settles them by hand', async () => {
    await onSite(studio, COPY, (query) =>
      query("UPDATE product SET description = 'Two deep pockets.' WHERE slug = 'apron'"),
    );
    await onSite(studio, LIVE, (query) =>
      query("UPDATE product SET description = 'Two pockets, dry flat.' WHERE slug = 'apron'"),
    );
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}&item=product:1`);
    await page.getByRole('button', { name: 'Both, edited' }).click();
    await expect
      .poll(() => page.getByLabel('Edited value').inputValue())
      .toMatch(/^Two (deep )?pockets.*(dry flat).*$/);
    expect(await page.getByRole('button', { name: 'Both, edited' }).getAttribute('aria-pressed')).toBe('true');
  });

  it('have their names in a change request too', async () => {
    const { client } = studio;
    const { id: forecast } = await forecastOf(studio, COPY, LIVE, { wishes: { only: ['page:2'] } });
    const { id } = await client.call('requestOpen', { body: { forecast, title: 'The dyes' } });
    await room(`/requests/${id}?item=page:2`);
    await page.getByRole('button', { name: 'Comment on Title' }).waitFor();
    expect(await row('body').textContent()).toContain('Madder and woad.');
    expect(await row('updated_by').isVisible()).toBe(false);
    await page.getByRole('button', { name: '2 more fields' }).click();
    await row('updated_by').waitFor();
    expect(await page.title()).toBe('The dyes · Tessarion');
  });
});

describe('two copies of one kind', () => {
  it('are compared, and nothing moves between them', async () => {
    await room(`/sites/threadmill/forecast?from=${COPY}&onto=${OTHER}`);
    await page.waitForURL(/\/compare\?/);
    await page.getByText('Changed on both', { exact: true }).waitFor();
    for (const title of ['Changed on staging', 'Changed on other'])
      await page.getByText(title, { exact: true }).waitFor();
    expect(await page.getByRole('button', { name: /Write|onto other/ }).count()).toBe(0);
    expect(await page.getByRole('checkbox').count()).toBe(0);
    // Both in their columns, whichever changed it.
    await page.locator('[data-item]', { hasText: 'Wool throw' }).getByRole('button').click();
    await expect.poll(() => row('price').textContent()).toMatch(/89\.00.*89\.00.*90\.00/);
    await page.locator('[data-item]', { hasText: 'A bag of' }).first().getByRole('button').click();
    await expect.poll(() => row('title').textContent()).toMatch(/Market bag.*A bag of ours.*A bag of theirs/);
    expect(await browsing.faults(page)).toEqual([]);
    await page.getByRole('link', { name: 'Forecast other onto live' }).click();
    await forecastRoom(OTHER);
  });
});

describe('what waits at a site', { shuffle: false }, () => {
  it('is listed where one works on it, and in the interface', async () => {
    await forecastOf(studio, COPY, LIVE);
    const { drift } = await studio.client.call('environmentShow', {
      params: { site: 'threadmill', environment: 'staging' },
    });
    expect(drift?.first.map(({ title }) => title)).toContain('A bag of ours');
    await room('/sites/threadmill?at=staging');
    const waits = page.getByRole('region', { name: 'Waits to go up' });
    await waits.getByText('A bag of ours').waitFor();
    await waits.getByRole('link', { name: /^Forecast all/ }).click();
    await forecastRoom(COPY);
  });

  it('says nothing of who changed a thing where that is personal', async () => {
    const { client } = studio;
    const { text } = await client.call('profileShow', { params: { name: 'quayside' }, query: {} });
    const changed = 'position: { hidden: true }';
    expect(text).toContain(changed);
    await saveProfile(
      client,
      'quayside',
      text.replace(changed, `${changed}\n          updated_by: { personal: "null" }`),
    );
    const { id } = await forecastOf(studio, COPY, LIVE);
    const { items } = await client.call('forecastItems', { params: { id }, query: {} });
    const dye = items.find((one) => one.id === 'page:2');
    await saveProfile(client, 'quayside', text);
    expect(dye?.changed.source).toMatchObject({ by: null, at: expect.any(String) });
  });
});
