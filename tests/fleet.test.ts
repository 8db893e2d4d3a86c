import type { Client } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { addSite, forecastOf, newcomer, onSite, SHOP, type Studio, signIn, startStudio } from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const LISE = 'lise@copperlane.example';
const HOUR = 3_600_000;

let studio: Studio;
let browsing: Browsing;
let request: RequestDetail;

beforeAll(async () => {
  studio = await startStudio('staging');
  await addSite(studio, { ...SHOP, name: 'saltmarsh', client: 'Saltmarsh Ferries' });
  const lise = await newcomer(studio, LISE, 'reviewer', 'threadmill', 'Lise');
  await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Dyes of the autumn' WHERE slug = 'dye'"));
  const { id } = await lise.call('me');
  const forecast = await forecastOf(studio, COPY, LIVE);
  request = await studio.client.call('requestOpen', {
    body: { forecast: forecast.id, title: 'Dyes of the autumn', reviewers: [{ person: id }] },
  });
  await studio.client.call('requestAsk', { params: { id: request.id } });
  browsing = await Browsing.open(studio);
}, 240_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const api = (path: string, headers: Record<string, string> = {}): Promise<Response> =>
  fetch(`${studio.url}/api/v1${path}`, { headers: { authorization: `Bearer ${studio.token}`, ...headers } });

describe('the fleet at a glance', () => {
  it('says of each environment what its own page says, and what is on its way', async () => {
    const glance = await studio.client.call('fleetShow');
    const whole = await studio.client.call('siteList');
    expect(glance.map(({ name }) => name)).toEqual(whole.map(({ name }) => name));
    for (const [i, site] of whole.entries()) {
      const seen = glance[i];
      expect(seen?.environments.map(({ path, state, reason, drift }) => ({ path, state, reason, drift }))).toEqual(
        site.environments.map(({ path, state, reason, drift }) => ({
          path,
          state,
          reason,
          // What waits thing by thing is told where one looks at a single site.
          drift: drift && { up: drift.up, down: drift.down, at: drift.at },
        })),
      );
      expect(seen?.environments.map(({ last }) => last?.id)).toEqual(site.environments.map(({ last }) => last?.id));
    }
    expect(glance[0]?.requests).toMatchObject([
      { id: request.id, state: 'in-review', from: COPY, onto: LIVE, openThreads: 0, unsettled: 0, deliverAt: null },
    ]);
    expect((await studio.client.call('fleetShow', { query: { site: 'saltmarsh' } })).map(({ name }) => name)).toEqual([
      'saltmarsh',
    ]);
  });

  it('shows who may see one site that one', async () => {
    const lise = await signIn(studio, LISE);
    expect((await lise.call('fleetShow')).map(({ name }) => name)).toEqual(['threadmill']);
    expect(await lise.call('fleetShow', { query: { site: 'saltmarsh' } })).toEqual([]);
    const agenda = await lise.call('agendaShow', {
      query: { from: new Date().toISOString(), until: new Date(Date.now() + HOUR).toISOString() },
    });
    expect(agenda.flatMap(({ sites }) => sites)).not.toContain('saltmarsh');
  });

  it('is sent again once it is another one, packed where that is taken', async () => {
    const first = await api('/fleet', { 'accept-encoding': 'gzip' });
    expect(first.headers.get('content-encoding')).toBe('gzip');
    expect(await first.json()).toHaveLength(2);
    const etag = first.headers.get('etag') ?? '';
    expect(etag).toMatch(/^W\/"/);
    const same = await api('/fleet', { 'if-none-match': `"other", ${etag}` });
    expect([same.status, await same.text()]).toEqual([304, '']);
    const plain = await api('/fleet', { 'accept-encoding': 'gzip;q=0' });
    expect(plain.headers.get('content-encoding')).toBeNull();
    const site = await studio.client.call('siteShow', { params: { site: 'saltmarsh' } });
    await studio.client.call('siteTag', { params: { site: 'saltmarsh' }, body: { tags: ['ferry'] }, etag: site.etag });
    expect((await api('/fleet', { 'if-none-match': etag })).status).toBe(200);
  });
});

describe('the agenda', () => {
  it('tells once what several sites have at one time: windows, freezes, deliveries', async () => {
    const from = Date.parse('2027-03-01T00:00:00.000Z');
    const windows = [{ days: [1], from: '22:00', until: '23:00' }];
    for (const site of ['threadmill', 'saltmarsh'])
      await studio.client.call('windowSet', { params: { site }, body: { windows }, etag: '*' });
    await studio.client.call('freezeAdd', {
      body: {
        reason: 'Spring sale',
        scope: 'saltmarsh',
        time: { repeats: 'never', from: '2027-03-01T08:00', until: '2027-03-02T08:00' },
      },
    });
    const agenda = await studio.client.call('agendaShow', {
      query: { from: new Date(from).toISOString(), until: new Date(from + 48 * HOUR).toISOString() },
    });
    expect(agenda.map(({ is, reason, sites }) => ({ is, reason, sites }))).toEqual([
      { is: 'freeze', reason: 'Spring sale', sites: ['saltmarsh'] },
      { is: 'window', reason: null, sites: ['threadmill', 'saltmarsh'] },
    ]);
    const tooLong = { from: '2027-03-01T00:00:00.000Z', until: '2027-06-01T00:00:00.000Z' };
    expect((await api(`/agenda?${new URLSearchParams(tooLong)}`)).status).toBe(400);
  });
});

describe('the room of the fleet', { shuffle: false }, () => {
  let page: Page;
  const part = (name: string) => page.getByRole('region', { name });

  it('says what waits for whom, with a badge from every room', async () => {
    page = await browsing.signedIn(LISE);
    await part('Waiting for you').getByText('Dyes of the autumn').waitFor();
    await page.getByRole('link', { name: 'Requests 1 wait for you' }).waitFor();
    await page.locator('[data-site]').first().waitFor();
    const row = page.locator('[data-row]', { hasText: 'threadmill' });
    expect(await row.textContent()).toContain('In review');
    expect(await browsing.faults(page)).toEqual([]);
    await part('Waiting for you').getByText('Dyes of the autumn').click();
    await page.waitForURL(/\/requests\/q-/);
    await page.context().close();
  });

  it('says what opens, freezes and is delivered in the next hours', async () => {
    const soon = new Date(Date.now() + 2 * HOUR);
    const hour = soon.getUTCHours();
    const at = (hours: number): string => `${String(hours % 24).padStart(2, '0')}:30`;
    const { timeZone } = await studio.client.call('siteShow', { params: { site: 'saltmarsh' } });
    const local = new Intl.DateTimeFormat('en-GB', { timeZone, hour: '2-digit', hourCycle: 'h23' });
    const shift = (Number(local.format(soon)) - hour + 24) % 24;
    await studio.client.call('windowSet', {
      params: { site: 'saltmarsh' },
      body: { windows: [{ days: [1, 2, 3, 4, 5, 6, 7], from: at(hour + shift), until: at(hour + shift + 1) }] },
      etag: '*',
    });
    page = await browsing.signedIn();
    await part('Next 24 hours')
      .getByText(/^saltmarsh opens, until \d\d:\d\d$/)
      .waitFor();
  });

  it('groups sites by client, folds a group, and shows those of mine', async () => {
    await page.getByLabel('Group by').selectOption('client');
    const head = page.getByRole('button', { name: /Saltmarsh Ferries/ });
    await head.click();
    await page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    expect(await head.getAttribute('aria-expanded')).toBe('false');
    await head.click();
    await page.getByRole('button', { name: 'Mine' }).click();
    await page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    await page.locator('[data-site]', { hasText: 'threadmill' }).waitFor();
    await page.keyboard.press('/');
    await page.keyboard.type('saltmarsh');
    await page.getByText('No site fits').waitFor();
    await page.getByRole('button', { name: 'Show all sites' }).click();
    await page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 2);
    expect(await page.getByLabel('Filter by site, client, tag, server').inputValue()).toBe('');
  });

  it('asks for one site when one has changed', async () => {
    const asked: string[] = [];
    page.on('request', (one) => one.url().includes('/api/v1/fleet') && asked.push(new URL(one.url()).search));
    const admin: Client = studio.client;
    const { etag } = await admin.call('siteShow', { params: { site: 'saltmarsh' } });
    await admin.call('siteTag', { params: { site: 'saltmarsh' }, body: { tags: ['ferry', 'north'] }, etag });
    await page.getByLabel('Filter by site, client, tag, server').fill('north');
    await page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    expect(asked).toEqual(['?site=saltmarsh']);
  });

  it('offers the forecast of a row to the mouse as well', async () => {
    await page.getByLabel('Filter by site, client, tag, server').fill('');
    const row = page.locator('[data-row]', { hasText: 'threadmill' });
    await row.hover();
    await row.getByRole('link', { name: 'Forecast' }).click();
    await page.waitForURL(/\/sites\/threadmill\/forecast/);
  });
});

describe('what one may not do', () => {
  it('is locked before it is tried, and says why and whom to ask', async () => {
    const page = await browsing.signedIn(LISE);
    await page.goto(`${studio.url}/sites/threadmill?at=staging`);
    const locked = (words: string) => page.locator('[aria-disabled=true]', { hasText: words });
    for (const words of ['Take a snapshot', 'Rename', 'New copy']) await locked(words).waitFor();
    await page.getByRole('button', { name: 'What takes away' }).click();
    for (const words of ['Reset from live', 'Remove'])
      await expect.poll(() => page.getByRole('menuitem', { name: words }).getAttribute('aria-disabled')).toBe('true');
    await page.keyboard.press('Escape');
    await page.getByText('Your role may not take, check and remove snapshots.').waitFor();
    await page.getByText('Ask somebody who gives roles here.').waitFor();
    expect(await browsing.faults(page)).toEqual([]);
    await page.goto(`${studio.url}/sites/threadmill/new`);
    await locked('Make threadmill/staging-2').waitFor();
    await page.goto(`${studio.url}/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`);
    await page.locator('[data-item]').first().waitFor();
    await locked('Write 1 item onto live').waitFor();
    await page.getByText('Your role may not write onto live').first().waitFor();
    expect(await page.getByLabel(/Onto live: type/).count()).toBe(0);
    await page.goto(`${studio.url}/journal`);
    await page.getByText('The journal is not open to you').waitFor();
    expect(await page.getByRole('link', { name: 'CSV' }).count()).toBe(0);
    await page.context().close();
  });
});
