import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { KeptSite } from './support/kept-site.js';
import {
  addSite,
  done,
  forecastOf,
  newcomer,
  onSite,
  pushOnto,
  SHOP,
  type Studio,
  startStudio,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const LISE = 'lise@copperlane.example';

/** Someone in front of the console whose clicks and keys are counted; words that only they can know are not. */
class Hands {
  clicks = 0;
  keys = 0;

  constructor(readonly page: Page) {}

  async click(role: 'link' | 'button' | 'checkbox', name: string | RegExp, within = '#room', shift = false) {
    const target = this.page.locator(within).getByRole(role, { name }).first();
    await target.waitFor({ state: 'attached' });
    await target.click(shift ? { modifiers: ['Shift'], force: true } : { force: role === 'checkbox' });
    this.clicks++;
  }

  async press(...keys: readonly string[]): Promise<void> {
    for (const key of keys) {
      await this.page.keyboard.press(key);
      this.keys++;
    }
  }

  /** Text that is counted key by key. */
  async type(text: string): Promise<void> {
    await this.page.keyboard.type(text);
    this.keys += text.length;
  }

  /** A name in full, or words of one's own. */
  say = (text: string): Promise<void> => this.page.keyboard.type(text);
}

let studio: Studio;
let browsing: Browsing;
let kept: KeptSite;

beforeAll(async () => {
  studio = await startStudio('staging');
  await addSite(studio, { ...SHOP, name: 'cobble', client: 'Cobble Lane Bicycles' });
  await newcomer(studio, LISE, 'reviewer', 'threadmill', 'Lise');
  kept = await KeptSite.of(studio, LIVE, COPY);
  browsing = await Browsing.open(studio);
}, 240_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

/** In the fleet, which is there. */
async function hands(mail?: string): Promise<Hands> {
  const page = await browsing.signedIn(mail);
  await page.locator('[data-site]').first().waitFor();
  return new Hands(page);
}
const run = (path: string, sql: string): Promise<unknown> => onSite(studio, path, (query) => query(sql));
/** Waits for the transfer that the page leads to. */
async function isDone(page: Page): Promise<void> {
  await page.waitForURL(/\/transfers\/t-/);
  await done(studio, { id: page.url().split('/').at(-1) ?? '' });
}

/** As it was at first, with nothing claimed. */
async function restore(): Promise<void> {
  for (const one of (await studio.client.call('requestList', { query: { open: 'yes' } })).items)
    await studio.client.call('requestWithdraw', { params: { id: one.id }, body: { reason: 'Over.' } });
  await kept.restore();
}
const opens = (page: Page): Promise<Page> => page.context().waitForEvent('page');
const removeCopies = async (): Promise<void> => {
  const site = await studio.client.call('siteShow', { params: { site: 'cobble' } });
  for (const one of site.environments.filter(({ kind }) => kind !== 'live'))
    await done(
      studio,
      await studio.client.call('environmentRemove', {
        params: { site: 'cobble', environment: one.name },
        query: { confirm: one.path },
      }),
    );
};

describe('a staging copy, up to its open page', () => {
  it('takes 3 clicks', async () => {
    await removeCopies();
    const at = await hands();
    await at.page.locator('[data-row]', { hasText: 'cobble' }).hover();
    await at.click('link', 'New copy', '[data-row]:hover');
    await at.page.waitForURL(/\/sites\/cobble\/new/);
    await at.click('button', 'Make cobble/staging');
    const page = opens(at.page);
    await at.click('button', 'Open cobble/staging');
    await (await page).close();
    expect(at.clicks).toBeLessThanOrEqual(3);
    await at.page.context().close();
  });

  it('takes 10 keys', async () => {
    await removeCopies();
    const at = await hands();
    await at.press('/');
    await at.type('cob');
    await at.page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    await at.press('Escape', 'j');
    await at.page.locator('[data-row][data-current]').waitFor();
    await at.press('c');
    await at.page.locator('input:focus').waitFor();
    await at.page.getByRole('button', { name: 'Make cobble/staging' }).waitFor();
    await at.press('Enter');
    await at.page.locator('button:focus', { hasText: 'Open cobble/staging' }).waitFor({ timeout: 60_000 });
    const page = opens(at.page);
    await at.press('Enter');
    await (await page).close();
    expect(at.keys).toBeLessThanOrEqual(10);
    await at.page.context().close();
  });
});

describe('half of seven things, onto live', () => {
  const sevenThings = async (): Promise<void> => {
    await restore();
    await run(COPY, "UPDATE page SET title = title || ' now'");
    await run(COPY, "UPDATE product SET title = title || ' now'");
    await run(
      COPY,
      "INSERT INTO product (slug, title, description, price) VALUES ('cap', 'Cap', '', 9), ('hat', 'Hat', '', 19)",
    );
  };

  it('takes 6 clicks and the typed name', async () => {
    await sevenThings();
    const at = await hands();
    const row = at.page.locator('[data-row]', { hasText: 'threadmill' });
    await row.hover();
    await at.click('link', 'Forecast', '[data-row]:hover');
    await at.page.locator('[data-item]').nth(6).waitFor();
    const boxes = at.page.locator('[data-item]');
    await at.click('checkbox', /^Move/, '[data-item]');
    await boxes
      .nth(2)
      .getByRole('checkbox')
      .click({ modifiers: ['Shift'], force: true });
    at.clicks++;
    await at.page.getByRole('button', { name: 'Write 4 items onto live' }).waitFor();
    await at.page.getByLabel(/Onto live: type/).click();
    at.clicks++;
    await at.say(LIVE);
    await at.click('button', 'Write 4 items onto live');
    expect(at.clicks).toBeLessThanOrEqual(6);
    await isDone(at.page);
    await at.page.context().close();
  });

  it('takes 14 keys and the typed name', async () => {
    await sevenThings();
    const at = await hands();
    await at.press('/');
    await at.type('thr');
    await at.page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    await at.press('Escape', 'j');
    await at.page.locator('[data-row][data-current]').waitFor();
    await at.press('f');
    await at.page.locator('[data-item]').nth(6).waitFor();
    await at.press('Space', 'j', 'j');
    await at.page.locator('[data-item]').nth(2).and(at.page.locator('[data-current]')).waitFor();
    await at.press('Shift+Space');
    await at.page.getByRole('button', { name: 'Write 4 items onto live' }).waitFor();
    await at.press('Control+Enter');
    await at.page.locator('input[data-asked]:focus').waitFor();
    await at.say(LIVE);
    await at.press('Enter');
    expect(at.keys).toBeLessThanOrEqual(14);
    await isDone(at.page);
    await at.page.context().close();
  });
});

describe('two collisions', () => {
  it('take 3 keys', async () => {
    await restore();
    for (const [path, words] of [
      [COPY, 'here'],
      [LIVE, 'there'],
    ] as const)
      await run(path, `UPDATE product SET title = title || ' ${words}' WHERE slug IN ('apron', 'bag')`);
    const at = await hands();
    await at.page.goto(`${studio.url}/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`);
    await at.page.getByText('2 collisions to settle').first().waitFor();
    await at.page.getByRole('button', { name: /^Staging’s/ }).waitFor();
    const outcomes = at.page.getByRole('region', { name: 'Outcomes' });
    const before = await outcomes.boundingBox();
    await at.press('1', 'n', '2');
    await at.page.locator('input[data-asked]').waitFor();
    expect(await at.page.getByText('to settle').count()).toBe(0);
    expect(at.keys).toBe(3);
    expect(await outcomes.boundingBox(), 'nothing jumps').toEqual(before);
    await at.page.context().close();
  });
});

describe('a review that sends back', () => {
  const inReview = async (title: string): Promise<void> => {
    await restore();
    await run(COPY, `UPDATE page SET title = '${title}' WHERE slug = 'dye'`);
    const people = await studio.client.call('personList');
    const forecast = await forecastOf(studio, COPY, LIVE);
    const { id } = await studio.client.call('requestOpen', {
      body: {
        forecast: forecast.id,
        title,
        reviewers: [{ person: people.find(({ mail }) => mail === LISE)?.id ?? '' }],
      },
    });
    await studio.client.call('requestAsk', { params: { id } });
  };
  const isReturned = (page: Page): Promise<void> => page.locator('[data-state=returned]').waitFor();

  it('takes 6 clicks and the words', async () => {
    await inReview('Dyes by mouse');
    const at = await hands(LISE);
    await at.click('link', /Dyes by mouse/);
    await at.click('button', /Dyes by mouse/, 'nav[aria-label=Items]');
    await at.click('button', 'Comment on Title');
    await at.page.locator('textarea:focus').waitFor();
    await at.say('Say which dyes.');
    await at.click('button', 'Comment', 'form:has(textarea:focus)');
    await at.page.getByText('Say which dyes.').first().waitFor();
    await at.page.locator('textarea[data-verdict]').click();
    at.clicks++;
    await at.say('Not yet.');
    await at.click('button', 'Send back');
    await isReturned(at.page);
    expect(at.clicks).toBeLessThanOrEqual(6);
    await at.page.context().close();
  });

  it('takes 12 keys and the words', async () => {
    await inReview('Dyes by keys');
    const at = await hands(LISE);
    await at.page.getByRole('link', { name: 'Requests 1 wait for you' }).waitFor();
    await at.press('g', 'r');
    await at.page.waitForURL(/view=waiting/);
    await at.page.locator('tbody tr').first().waitFor();
    await at.press('j');
    await at.page.locator('tr[aria-current]').waitFor();
    await at.press('Enter');
    await at.page.locator('textarea[data-verdict]').waitFor();
    await at.press('j');
    await at.page.getByLabel('Comment on Dyes by keys').waitFor();
    await at.press('c');
    await at.say('Say which dyes.');
    await at.press('Control+Enter');
    await at.page.locator('article', { hasText: 'Say which dyes.' }).waitFor();
    await at.press('Escape', 'b');
    await at.say('Not yet.');
    await at.press('Tab', 'Tab', 'Enter');
    await isReturned(at.page);
    expect(at.keys).toBeLessThanOrEqual(12);
    await at.page.context().close();
  });
});

describe('who changed a page on live, and the way back', () => {
  const pushed = async (title: string): Promise<void> => {
    await restore();
    await run(COPY, `UPDATE page SET title = '${title}' WHERE slug = 'dye'`);
    await done(studio, await pushOnto(studio, COPY, LIVE));
  };

  it('takes 4 clicks and the typed name', async () => {
    await pushed('Dyes, found by mouse');
    const at = await hands();
    await at.click('link', /^threadmill/, '[data-row]');
    await at.click('button', /live/, '#room');
    const line = at.page.getByRole('listitem').filter({ hasText: 'Dyes, found by mouse' });
    expect(await line.textContent()).toContain('push by Maren Brask');
    await at.click('link', 'Take it back', '[aria-label="What changed here"]');
    await at.page.locator('input[data-asked]:focus').waitFor();
    await at.say(LIVE);
    await at.click('button', /onto live|back/, 'form[aria-label=Confirm]');
    await isDone(at.page);
    expect(at.clicks).toBeLessThanOrEqual(4);
    await at.page.context().close();
  });

  it('takes 10 keys and the typed name', async () => {
    await pushed('Dyes, found by keys');
    const at = await hands();
    await at.press('/');
    await at.type('thr');
    await at.page.waitForFunction(() => document.querySelectorAll('[data-site]').length === 1);
    await at.press('Escape', 'j');
    await at.page.locator('[data-row][data-current]').waitFor();
    await at.press('Enter');
    const line = at.page.getByRole('listitem').filter({ hasText: 'Dyes, found by keys' });
    await line.waitFor();
    await at.press('w');
    await at.page.locator('a[data-undo]:focus').waitFor();
    await at.press('Enter');
    await at.page.locator('input[data-asked]:focus').waitFor();
    await at.say(LIVE);
    await at.press('Enter');
    await isDone(at.page);
    expect(at.keys).toBeLessThanOrEqual(10);
    await at.page.context().close();
  });
});
