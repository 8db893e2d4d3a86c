import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { addSite, done, makeCopy, onSite, PASSWORD, SHOP, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;

beforeAll(async () => {
  studio = await startStudio('live');
  await addSite(studio, { ...SHOP, name: 'pendulum', client: 'Halden Museum of Clocks', format: 'json' });
  await makeCopy(studio, 'pendulum', 'staging');
  browsing = await Browsing.open(studio);
  page = await browsing.stranger();
}, 120_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const faults = (): Promise<string[]> => browsing.faults(page);

describe('a whole job in the console, step by step', { shuffle: false }, () => {
  it('signs in, after a wrong try', async () => {
    await page.goto(`${studio.url}/sites/threadmill`);
    await page.getByLabel('Mail address').fill('maren.brask@copperlane.example');
    await page.getByLabel('Password').fill('not the password');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByRole('alert').getByText('Mail address or password is not right.').waitFor();
    expect(await faults()).toEqual([]);
    await page.getByLabel('Password').fill(PASSWORD);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByRole('heading', { name: 'threadmill', exact: true }).waitFor();
    expect(await faults()).toEqual([]);
  });

  it('makes a staging copy and watches it being made', async () => {
    await page.getByRole('link', { name: 'New copy' }).click();
    const name = page.getByLabel('Name');
    await name.fill('Not A Name');
    await page.getByText('Use lower-case letters').waitFor();
    await name.fill('staging');
    await page.getByText(`http://threadmill--staging.localhost:${studio.gatewayPort}`).waitFor();
    expect(await faults()).toEqual([]);
    await page.getByRole('button', { name: 'Make threadmill/staging' }).click();
    await page.getByText('Copy rows and files').waitFor();
    await page.getByRole('status').getByText('Done').waitFor({ timeout: 30_000 });
    expect(await faults()).toEqual([]);
  });

  it('forecasts the edit that was made there, and will not push onto live before it is named', async () => {
    await onSite(studio, 'threadmill/staging', (query) =>
      query("UPDATE page SET body = '<p>Madder, weld, woad and walnut.</p>' WHERE slug = 'dye'"),
    );
    await page.goto(`${studio.url}/sites/threadmill?at=staging`);
    await page.getByRole('link', { name: 'Forecast', exact: true }).click();
    await page.getByText('Write 1 page').waitFor();
    await page.locator('[data-item]', { hasText: 'How we dye' }).click();
    await page.locator('ins', { hasText: 'walnut' }).waitFor();
    expect(await faults()).toEqual([]);
    const button = page.getByRole('button', { name: 'Write 1 item onto live' });
    expect(await button.isDisabled()).toBe(true);
    const field = page.getByLabel(/Onto live: type/);
    expect(await field.inputValue()).toBe('');
    await field.fill('threadmill/staging');
    expect(await button.isDisabled()).toBe(true);
    await field.fill('threadmill/live');
    await button.click();
    await page.getByRole('status').getByText('Done').waitFor({ timeout: 30_000 });
    const [row] = await onSite(studio, 'threadmill/live', (query) => query("SELECT body FROM page WHERE slug = 'dye'"));
    expect(row?.body).toContain('walnut');
    expect(await faults()).toEqual([]);
  });

  it('takes it back', async () => {
    await page.getByRole('link', { name: 'Take it back' }).click();
    await page.getByText(/^Take back 1 page of t-/).waitFor();
    expect(await faults()).toEqual([]);
    await page.getByLabel(/Onto live: type/).fill('threadmill/live');
    await page.getByRole('button', { name: 'Take back 1 item from live' }).click();
    await page.getByText(/^Take back 1 page of t-/).waitFor();
    await page.getByRole('status').getByText('Done').waitFor({ timeout: 30_000 });
    const [row] = await onSite(studio, 'threadmill/live', (query) => query("SELECT body FROM page WHERE slug = 'dye'"));
    expect(row?.body).not.toContain('walnut');
  });

  it('says the other way when the ends are swapped', async () => {
    await page.goto(`${studio.url}/sites/threadmill/forecast?from=threadmill/staging&onto=threadmill/live`);
    await page.getByText('Write 1 page').waitFor();
    await page.keyboard.press('x');
    await page.getByText(/^Bring .* into threadmill\/staging/).waitFor();
    expect(await faults()).toEqual([]);
  });

  it('shows the fleet, finds by keyboard, and keeps the filter in the address', async () => {
    await page.goto(studio.url);
    await page.getByText('On the move').waitFor();
    expect(await faults()).toEqual([]);
    await page.keyboard.press('/');
    await page.keyboard.type('pendulum');
    await page.waitForURL(/find=pendulum/);
    expect(await page.locator('[data-site]').count()).toBe(1);
    await page.keyboard.press('Escape');
    await page.keyboard.press('Control+k');
    await page.getByPlaceholder('Site, environment').fill('forecast threadmill');
    await page.keyboard.press('Enter');
    await page.getByText('Write 1 page').waitFor();
    await page.keyboard.press('g');
    await page.keyboard.press('t');
    await page.getByRole('heading', { name: 'Transfers' }).waitFor();
    await page.getByRole('cell', { name: 'undo', exact: true }).waitFor();
    expect(await faults()).toEqual([]);
  });

  it('lists snapshots, verifies and removes one, and shows a profile', async () => {
    await page.goto(`${studio.url}/snapshots`);
    await page.getByText('No snapshots yet').waitFor();
    await done(
      studio,
      await studio.client.call('snapshotTake', { body: { environment: 'threadmill/live', reason: 'by hand' } }),
    );
    await page.getByRole('cell', { name: 'by hand' }).waitFor();
    await page.getByRole('button', { name: 'Verify' }).click();
    await page.getByRole('cell', { name: 'whole' }).waitFor();
    expect(await faults()).toEqual([]);
    await page.getByRole('button', { name: 'Remove' }).click();
    await page.getByRole('button', { name: 'Remove the snapshot' }).click();
    await page.getByText('No snapshots yet').waitFor();
    await page.goto(`${studio.url}/profiles/quayside`);
    await page.getByText('natural-key').first().waitFor();
    expect(await faults()).toEqual([]);
  });

  it('works at 360 pixels without scrolling sideways', async () => {
    await page.setViewportSize({ width: 360, height: 780 });
    for (const path of [
      '/',
      '/sites/threadmill',
      '/sites/threadmill/new',
      '/sites/threadmill/forecast?from=threadmill/staging&onto=threadmill/live',
      '/transfers',
      '/snapshots',
      '/profiles/quayside',
    ]) {
      await page.goto(studio.url + path);
      await page.locator('main, form').first().waitFor();
      await page.waitForFunction(() => document.querySelector('[aria-busy]') === null);
      const overflow = await page.evaluate(
        () => document.documentElement.scrollWidth - document.documentElement.clientWidth,
      );
      expect([path, overflow <= 0]).toEqual([path, true]);
    }
    await page.setViewportSize({ width: 1280, height: 800 });
  });

  it('comes compressed, less than 240 kB of it at first, and is kept for as long as it holds', async () => {
    const fresh = await browsing.stranger();
    const session = await fresh.context().newCDPSession(fresh);
    await session.send('Network.enable');
    const asked = new Map<string, { url: string; headers: Record<string, string> }>();
    const bytes = new Map<string, number>();
    session.on('Network.responseReceived', ({ requestId, response }) => {
      if (/\.(js|css)$/.test(response.url)) asked.set(requestId, { url: response.url, headers: response.headers });
    });
    session.on('Network.loadingFinished', ({ requestId, encodedDataLength }) => {
      if (asked.has(requestId)) bytes.set(requestId, encodedDataLength);
    });
    await fresh.goto(`${studio.url}/sign-in`);
    await fresh.getByRole('button', { name: 'Sign in' }).waitFor();
    await expect.poll(() => bytes.size).toBe(asked.size);
    for (const { url, headers } of asked.values()) {
      expect([url, headers['content-encoding']]).toEqual([url, 'br']);
      expect(headers['cache-control']).toContain('immutable');
      expect(headers.vary).toMatch(/accept-encoding/i);
    }
    expect([...bytes.values()].reduce((sum, one) => sum + one, 0)).toBeLessThan(240_000);
    // Whoever takes nothing compressed gets it as it is.
    const [one] = asked.values();
    const plain = await fetch(one?.url ?? '', { headers: { 'accept-encoding': 'identity' } });
    const small = await fetch(one?.url ?? '', { headers: { 'accept-encoding': 'br' } });
    expect([plain.headers.get('content-encoding'), small.headers.get('content-encoding')]).toEqual([null, 'br']);
    expect(await small.text()).toBe(await plain.text());
  });
});
