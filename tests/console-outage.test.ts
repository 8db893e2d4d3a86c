import { connect, createServer, type Server, type Socket } from 'node:net';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Browsing } from './support/browsing.js';
import { forecastOf, onSite, type Studio, startStudio } from './support/studio.js';

let studio: Studio;
let browsing: Browsing;
let page: Page;
let line: Line;
let request: string;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

/** The line between a browser and the service. */
class Line {
  readonly #open = new Set<Socket>();
  #server: Server | undefined;
  port = 0;

  constructor(private readonly to: number) {}

  get url(): string {
    return `http://127.0.0.1:${this.port}`;
  }

  async mend(): Promise<void> {
    this.#server = createServer((socket) => {
      const there = connect(this.to, '127.0.0.1');
      for (const one of [socket, there]) {
        this.#open.add(one);
        one.on('error', () => undefined);
        one.on('close', () => this.#open.delete(one));
      }
      socket.pipe(there).pipe(socket);
    });
    await new Promise<void>((resolve) => this.#server?.listen(this.port, '127.0.0.1', resolve));
    const address = this.#server.address();
    if (typeof address === 'object' && address) this.port = address.port;
  }

  async cut(): Promise<void> {
    const closed = new Promise((resolve) => this.#server?.close(resolve));
    for (const one of this.#open) one.destroy();
    await closed;
  }
}

beforeAll(async () => {
  studio = await startStudio('staging');
  await onSite(studio, COPY, (query) => query("UPDATE page SET title = 'Dyes of the year' WHERE slug = 'dye'"));
  const forecast = await forecastOf(studio, COPY, LIVE);
  const opened = await studio.client.call('requestOpen', { body: { forecast: forecast.id, title: 'The dyes' } });
  request = opened.id;
  line = new Line(Number(new URL(studio.url).port));
  await line.mend();
  browsing = await Browsing.open({ ...studio, url: line.url });
  page = await browsing.signedIn();
}, 120_000);
afterAll(async () => {
  await browsing?.close();
  await line?.cut().catch(() => undefined);
  await studio?.stop();
});

/** As when somebody comes back to the browser's tab. */
const comeBack = (): Promise<void> => page.evaluate(() => void document.dispatchEvent(new Event('visibilitychange')));
const strip = () => page.getByRole('status').filter({ hasText: 'since' });

describe('while the service is away', { shuffle: false }, () => {
  it('a room stays as it was, with what was typed, and says since when', async () => {
    await page.goto(`${line.url}/requests/${request}?item=page:2`);
    const comment = page.getByRole('textbox', { name: /^Comment on/ }).first();
    await comment.waitFor();
    await comment.fill('Say how large the looms are');
    await line.cut();
    await strip().waitFor();
    await comeBack();
    await strip().getByRole('button', { name: 'Try now' }).click();
    await expect.poll(() => strip().textContent()).toMatch(/^Not connected since .*; what you see is of then/);
    expect(await comment.inputValue()).toBe('Say how large the looms are');
    expect(await page.getByRole('heading', { level: 1 }).textContent()).toBe('The dyes');
  });

  it('the way to a room that was seen shows it, and one to a room that was not says why; the bar is there', async () => {
    const bar = page.getByRole('navigation', { name: 'Rooms' });
    await bar.getByRole('link', { name: 'Profiles' }).click();
    await expect.poll(() => page.locator('main').textContent()).toMatch(/Not connected|Broken|older|loading it again/i);
    await bar.getByRole('link', { name: 'Fleet' }).waitFor();
    expect(await page.locator('h1').count()).toBe(1);
  });

  it('goes on where it was once it is back, and what was typed is still there', async () => {
    await line.mend();
    await strip().waitFor({ state: 'detached' });
    await page.goto(`${line.url}/requests/${request}?item=page:2`);
    const comment = page.getByRole('textbox', { name: /^Comment on/ }).first();
    await comment.waitFor();
    expect(await comment.inputValue()).toBe('Say how large the looms are');
    // What happened meanwhile is seen without asking for it.
    await studio.client.call('requestWithdraw', { params: { id: request }, body: { reason: 'Next year' } });
    await page.getByText('Next year').first().waitFor();
  });

  it('whoever has been signed out meanwhile is led to the door', async () => {
    await page.goto(`${line.url}/`);
    await page.getByRole('heading', { level: 1 }).waitFor();
    await page.context().clearCookies();
    await line.cut();
    await strip().waitFor();
    await line.mend();
    await page.waitForURL(/sign-in/);
  });
});
