import type { Page } from 'playwright-core';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { onSite, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
  await onSite(studio, COPY, async (query) => {
    await query("UPDATE page SET title = 'Dyes of the year' WHERE slug = 'dye'");
    await query("UPDATE page SET title = 'Threads and more' WHERE slug = 'home'");
    await query("UPDATE product SET price = 12 WHERE slug IN ('apron', 'throw', 'bag')");
  });
  browsing = await Browsing.open(studio);
  page = await browsing.signedIn();
}, 120_000);
afterAll(async () => {
  await browsing?.close();
  await studio?.stop();
});

const at = (): string => new URL(page.url()).pathname + new URL(page.url()).search;
const room = async (path: string): Promise<void> => {
  await page.goto(studio.url + path);
  await page.locator('main').first().waitFor();
  await page.waitForFunction(() => document.querySelector('[aria-busy]') === null);
};
const FORECAST = `/sites/threadmill/forecast?from=${COPY}&onto=${LIVE}`;

describe('Enter and Space', () => {
  it.each([
    ['a room in the bar', '/?at=threadmill', { role: 'link', name: 'Transfers' }, /^\/transfers$/],
    ['an act of the fleet', '/?at=threadmill', { role: 'link', name: 'Bring in a site' }, /^\/bring-in$/],
    ['a tab of the requests', '/requests', { role: 'button', name: 'Mine' }, /mine/],
  ] as const)('do what the focused thing is for: %s', async (_what, path, { role, name }, wanted) => {
    await room(path);
    await page.getByRole(role, { name, exact: true }).first().focus();
    await page.keyboard.press('Enter');
    await expect.poll(at).toMatch(wanted);
  });

  it('open the outcome that has the focus, and choose nothing', async () => {
    await room(FORECAST);
    await page.locator('[data-item]').first().waitFor();
    const kept = page.getByRole('button', { name: /Will be kept/ });
    await kept.focus();
    await page.keyboard.press(' ');
    await expect.poll(() => kept.getAttribute('aria-pressed')).toBe('true');
    await page.getByRole('button', { name: /Will be written/ }).click();
    expect(await page.getByRole('checkbox', { checked: false }).count()).toBe(0);
  });

  it('choose the item whose box has the focus, and no other', async () => {
    await room(FORECAST);
    const boxes = page.getByRole('region', { name: 'Items' }).getByRole('checkbox');
    await boxes.nth(3).waitFor();
    await boxes.nth(3).focus();
    const row = await boxes.nth(3).getAttribute('aria-label');
    await page.keyboard.press(' ');
    const left = page.getByRole('checkbox', { checked: false });
    await expect.poll(() => left.count()).toBe(1);
    expect(await left.getAttribute('aria-label')).toBe(row);
  });
});

describe('a key that leads to another room', () => {
  let asked: string[];
  beforeEach(() => {
    asked = [];
    page.on('request', (request) => {
      if (request.method() === 'POST') asked.push(new URL(request.url()).pathname);
    });
  });

  it('does not start a forecast on its way', async () => {
    await room('/sites/threadmill?at=staging');
    await page.keyboard.press('g');
    await page.keyboard.press('f');
    await expect.poll(at).toBe('/');
    expect(asked).toEqual([]);
  });

  it('does not move the row on its way', async () => {
    await room('/?at=threadmill');
    await room('/transfers');
    await page.locator('main').waitFor();
    await page.keyboard.press('g');
    await page.keyboard.press('j');
    await expect.poll(at).toBe('/journal');
    await page.goBack();
    await expect.poll(at).toBe('/transfers');
  });

  it('is forgotten when the next one leads nowhere, which does nothing either', async () => {
    await room(FORECAST);
    await page.locator('[data-item]').first().waitFor();
    const before = asked.length;
    const here = at();
    await page.keyboard.press('g');
    await page.keyboard.press('x');
    await page.keyboard.press('Shift');
    expect(at()).toBe(here);
    expect(asked.length).toBe(before);
  });
});

describe('the list of keys', () => {
  it('names those that work where one is, and in every room', async () => {
    await room(FORECAST);
    await page.locator('[data-item]').first().waitFor();
    await page.keyboard.press('?');
    const list = page.getByRole('dialog');
    await list.waitFor();
    const text = await list.textContent();
    for (const key of ['Space', 'Shift Space', 'n', 'p', '1', '2', '3', 'f', 'x', 'Ctrl K', 'g t'])
      expect(await list.locator('kbd').allInnerTexts(), key).toContain(key);
    expect(text).toContain('Choose');
    await page.keyboard.press('Escape');
    await room('/transfers');
    await page.keyboard.press('?');
    await list.waitFor();
    expect(await list.locator('kbd').allInnerTexts()).not.toContain('x');
    await page.keyboard.press('Escape');
  });
});

describe('pushing a part', () => {
  const rows = () => page.locator('[data-item]');
  const row = (title: string) => rows().filter({ hasText: title });
  const head = (title: string) => page.locator('[data-group]').filter({ hasText: title });
  const counted = async (text: string): Promise<void> => {
    await page.locator('[data-counting=false]', { hasText: text }).waitFor();
  };

  beforeEach(async () => {
    await onSite(studio, LIVE, (query) => query("UPDATE page SET title = 'Threads' WHERE slug = 'home'"));
    await room(FORECAST);
    await rows().nth(4).waitFor();
  });

  it('leaves each item where it is, whatever is chosen, until they are sorted anew', async () => {
    const order = await rows().allTextContents();
    const before = await row('Dyes of the year').boundingBox();
    await row('Dyes of the year').getByRole('checkbox').click();
    await counted('3 products');
    await expect.poll(() => head('Will be written').textContent()).toContain('3 of 4 chosen');
    expect(await row('Dyes of the year').boundingBox()).toEqual(before);
    expect((await rows().allTextContents()).length).toBe(order.length);
    await page.getByRole('button', { name: 'Sort anew' }).click();
    await head('Left out').waitFor();
    expect((await rows().allTextContents()).at(-1)).toContain('Dyes of the year');
  });

  it('takes all, none, or those that are shown, by key and by a box for each group', async () => {
    const chosen = () => page.locator('[data-item]').getByRole('checkbox', { checked: true }).count();
    const groupBox = page.getByRole('checkbox', { name: 'Move all of Will be written' });
    await expect.poll(() => groupBox.isChecked()).toBe(true);
    await page.keyboard.press('Shift+A');
    await expect.poll(chosen).toBe(0);
    await page.getByLabel('Kind').selectOption('product');
    await page.locator('body').click({ position: { x: 640, y: 780 } });
    await page.keyboard.press('i');
    await expect.poll(chosen).toBe(3);
    await page.getByLabel('Kind').selectOption('');
    await expect.poll(chosen).toBe(3);
    await counted('3 products');
    expect(await groupBox.evaluate((box) => (box as HTMLInputElement).indeterminate)).toBe(true);
    await groupBox.click();
    await expect.poll(chosen).toBe(4);
    await page.keyboard.press('a');
    await expect.poll(chosen).toBe(5);
    await counted('3 products and 1 page');
  });

  it('shows the group that one asks for, at its first item', async () => {
    await page.getByRole('button', { name: /^.*Will be written/ }).click();
    await expect.poll(() => page.locator('[data-item][data-current]').textContent()).not.toContain('Threads and more');
    await page.getByRole('button', { name: /Needs you/ }).click();
    await expect.poll(() => page.locator('[data-item][data-current]').textContent()).toContain('Threads and more');
  });

  it('is there again, with what was chosen, when one goes back from the swapped one', async () => {
    await row('Dyes of the year').getByRole('checkbox').click();
    await counted('3 products');
    const here = page.url();
    await page.keyboard.press('x');
    await page.waitForURL((url) => url.searchParams.get('from') === LIVE && url.searchParams.has('id'));
    await page.goBack();
    await page.waitForURL(here);
    await head('Will be written').waitFor();
    expect(await row('Dyes of the year').getByRole('checkbox').isChecked()).toBe(false);
  });
});

describe('from room to room', () => {
  it('the focus stays with who goes by keys, and the room is told', async () => {
    await page.goto(`${studio.url}/`);
    await page.locator('[data-site]').first().waitFor();
    await page.keyboard.press('Tab');
    const skip = page.getByRole('button', { name: 'To the room' });
    await expect.poll(() => skip.evaluate((one) => one === document.activeElement)).toBe(true);
    await page.keyboard.press('Enter');
    await page.keyboard.press('Tab');
    expect(await page.evaluate(() => document.activeElement?.closest('#room') !== null)).toBe(true);
    await page.locator('[data-site]').first().click();
    await page.waitForURL(/\/sites\//);
    await expect.poll(() => page.evaluate(() => document.activeElement?.id)).toBe('room');
    await page.getByRole('status').filter({ hasText: 'threadmill' }).first().waitFor({ state: 'attached' });
  });
});
