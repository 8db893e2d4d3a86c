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
    await page.locator('.list .it').first().waitFor();
    const kept = page.getByRole('button', { name: /Will be kept/ });
    await kept.focus();
    await page.keyboard.press(' ');
    await expect.poll(() => kept.getAttribute('aria-pressed')).toBe('true');
    await page.getByRole('button', { name: /Will be written/ }).click();
    expect(await page.getByRole('checkbox', { checked: false }).count()).toBe(0);
  });

  it('choose the item whose box has the focus, and no other', async () => {
    await room(FORECAST);
    const boxes = page.locator('.list').getByRole('checkbox');
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
    await page.locator('.list .it').first().waitFor();
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
    await page.locator('.list .it').first().waitFor();
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
