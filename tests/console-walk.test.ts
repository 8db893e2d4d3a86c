import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { done, forecastOf, newcomer, onSite, pushOnto, type Studio, startStudio } from './support/studio.js';
import { walk } from './support/walk.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
let rooms: readonly (readonly [room: string, path: string])[];
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
  const { client } = studio;
  await onSite(studio, COPY, async (query) => {
    await query("UPDATE page SET title = 'Dyes of the year' WHERE slug = 'dye'");
    await query("UPDATE product SET price = 35 WHERE slug = 'apron'");
    await query("UPDATE product SET title = 'Bag of bags' WHERE slug = 'bag'");
  });
  const pushed = await done(studio, await pushOnto(studio, COPY, LIVE, { wishes: { only: ['product:3'] } }));
  await onSite(studio, LIVE, (query) => query("UPDATE product SET price = 36 WHERE slug = 'apron'"));
  await done(studio, await client.call('snapshotTake', { body: { environment: LIVE, reason: 'by hand' } }));
  const { id: forecast } = await forecastOf(studio, COPY, LIVE, { wishes: { except: ['product:1'] } });
  const lise = await newcomer(studio, 'lise.aune@copperlane.example', 'reviewer', 'threadmill', 'Lise Aune');
  const { person } = { person: await lise.call('me') };
  const request = await client.call('requestOpen', {
    body: { forecast, title: 'The dyes', reviewers: [{ person: person.id }] },
  });
  await client.call('requestAsk', { params: { id: request.id } });
  await client.call('commentAdd', { params: { id: request.id }, body: { text: 'Which dyes?' } });
  await client.call('webhookAdd', { body: { url: 'https://hooks.example/' } });
  await client.call('guestInvite', {
    params: { site: 'threadmill' },
    body: { name: 'Vera Lund', looks: [{ environment: COPY }] },
  });
  await client.call('windowSet', {
    params: { site: 'threadmill' },
    body: { windows: [{ days: [1, 2, 3], from: '22:00', until: '02:00' }] },
    etag: '*',
  });
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
  rooms = [
    ['fleet', '/'],
    ['fleet, nothing fits', '/?find=nothing+like+that'],
    ['site, live', '/sites/threadmill?at=live'],
    ['site, copy', '/sites/threadmill?at=staging'],
    ['timeline', '/sites/threadmill/timeline'],
    ['new copy', '/sites/threadmill/new'],
    ['forecast', `/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`],
    ['undo', `/sites/threadmill/forecast?undo=${pushed.id}&onto=${LIVE}`],
    ['requests', '/requests?view=all'],
    ['request', `/requests/${request.id}`],
    ['item of a request', `/requests/${request.id}?item=page:2`],
    ['transfers', '/transfers'],
    ['transfers, none fits', '/transfers?state=stopped'],
    ['transfer', `/transfers/${pushed.id}`],
    ['snapshots', '/snapshots'],
    ['windows', '/windows?at=threadmill'],
    ['month', '/windows?as=month'],
    ['profile', '/profiles/quayside'],
    ['tables of a profile', '/profiles/quayside?as=tables'],
    ['people', '/people'],
    ['a person', `/people?at=${person.id}`],
    ['invitation', '/people?at=new'],
    ['journal', '/journal'],
    ['figures', '/figures'],
    ['notices', '/notices'],
    ['settings', '/settings'],
    ['servers', '/servers'],
    ['webhooks', '/webhooks'],
    ['bring in', '/bring-in'],
    ['nowhere', '/nowhere/at/all'],
  ];
}, 180_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const enter = async (path: string): Promise<void> => {
  await page.goto(studio.url + path);
  await page.locator('main, form').first().waitFor();
  await page.waitForFunction(() => document.querySelector('[aria-busy=true]') === null);
};

describe('every room and state', () => {
  it('is gone through by keyboard: all is reached, shows it, and does what it says', async () => {
    const found: unknown[] = [];
    for (const [room, path] of rooms) {
      await enter(path);
      const faults = await walk(page);
      if (Object.values(faults).some((some: readonly string[]) => some.length > 0)) found.push({ room, ...faults });
    }
    expect(found).toEqual([]);
  });

  it('can be read by everybody, light and dark, wide and on a phone', async () => {
    const found: unknown[] = [];
    const note = (where: string, faults: readonly string[]): void => {
      if (faults.length > 0) found.push([where, faults]);
    };
    for (const [room, path] of rooms) {
      await page.setViewportSize({ width: 1280, height: 800 });
      await page.emulateMedia({ colorScheme: 'light', reducedMotion: 'reduce' });
      await enter(path);
      note(`${room}, light`, await browsing.faults(page));
      if ((await page.locator('h1').count()) !== 1) found.push([room, 'has not one heading of the first rank']);
      await page.emulateMedia({ colorScheme: 'dark' });
      note(`${room}, dark`, await browsing.faults(page, ['color-contrast']));
      await page.setViewportSize({ width: 360, height: 780 });
      note(`${room}, 360, dark`, await browsing.faults(page, ['color-contrast', 'target-size']));
      await page.emulateMedia({ colorScheme: 'light' });
      note(`${room}, 360`, await browsing.faults(page));
      const wider = await page.evaluate(
        () => document.documentElement.scrollWidth - document.documentElement.clientWidth,
      );
      if (wider > 0) found.push([room, `is ${wider} pixels too wide at 360`]);
    }
    expect(found).toEqual([]);
  });
});
