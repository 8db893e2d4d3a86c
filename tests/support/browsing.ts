import { readFile } from 'node:fs/promises';
import { fileURLToPath } from 'node:url';
import { type Browser, type BrowserContext, chromium, type Locator, type Page } from 'playwright-core';
import { onTestFailed, TestRunner } from 'vitest';
import { PASSWORD, type Studio } from './studio.js';

const axe = await readFile(fileURLToPath(new URL('../../node_modules/axe-core/axe.min.js', import.meta.url)), 'utf8');

interface AxeResult {
  readonly violations: readonly {
    readonly id: string;
    readonly impact: string;
    readonly nodes: readonly { readonly html: string }[];
  }[];
}

/** Finds one of many in a field by its words, and chooses it. */
export async function find(field: Locator, words: string): Promise<void> {
  await field.fill(words);
  const found = field.page().locator('[role=option]');
  await found
    .filter({ has: field.page().getByText(words, { exact: true }) })
    .first()
    .click();
}

/** What it shows. Nobody calls this: `--changed` follows it from tests to what they look at. */
// @ts-expect-error: the console is checked by a configuration of its own.
export const shows = (): Promise<unknown> => import('../../packages/console/src/main.jsx');

/** A worker of the test run has one browser, for file after file. */
let browser: Browser | undefined;

export async function ownBrowser(): Promise<Browser> {
  if (!browser?.isConnected())
    browser = await chromium.launch({
      executablePath: '/usr/bin/chromium',
      args: [
        '--no-sandbox',
        '--disable-gpu',
        '--disable-quic',
        '--no-first-run',
        '--disable-background-networking',
        '--disable-component-update',
        '--disable-sync',
      ],
    });
  return browser;
}

/** People in front of a studio's console, each with a headless browser of their own. */
export class Browsing {
  readonly #shown: string[] = [];
  readonly #contexts: BrowserContext[] = [];

  private constructor(
    private readonly studio: Studio,
    private readonly browser: Browser,
  ) {}

  static async open(studio: Studio): Promise<Browsing> {
    return new Browsing(studio, await ownBrowser());
  }

  async close(): Promise<void> {
    await this.#write();
    for (const context of this.#contexts) await context.close();
  }

  /** Takes down what the pages show, for a test that failed. */
  async #write(): Promise<void> {
    for (const page of this.#contexts.flatMap((context) => context.pages()))
      this.#shown.push(`${page.url()}\n${await page.textContent('body').catch(String)}`.slice(0, 1500));
  }

  /** An empty page of somebody who has not signed in. */
  async stranger(): Promise<Page> {
    if (TestRunner.getCurrentTest() !== undefined)
      onTestFailed(async () => {
        if (this.#shown.length === 0) await this.#write();
        console.error(this.#shown.splice(0).join('\n—\n'));
      });
    const context = await this.browser.newContext({ viewport: { width: 1280, height: 800 }, bypassCSP: true });
    this.#contexts.push(context);
    return context.newPage();
  }

  /** A page of somebody who has signed in, in the fleet. */
  async signedIn(mail = 'maren.brask@copperlane.example'): Promise<Page> {
    const page = await this.stranger();
    await page.goto(`${this.studio.url}/sign-in`);
    await page.getByLabel('Mail address').fill(mail);
    await page.getByLabel('Password').fill(PASSWORD);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByRole('button', { name: /account/ }).waitFor();
    return page;
  }

  /**
   * Serious and critical faults that axe finds on a page as it is, once what fades or moves there has come to its end.
   *
   * @param rules those to look for; all of WCAG 2.2 A and AA otherwise
   */
  async faults(page: Page, rules?: readonly string[]): Promise<string[]> {
    if (!(await page.evaluate(() => 'axe' in window))) await page.evaluate(axe);
    await page.evaluate(async () => {
      const ending = document
        .getAnimations()
        .filter((one) => one.effect?.getComputedTiming().endTime !== Number.POSITIVE_INFINITY);
      await Promise.allSettled(ending.map((one) => one.finished));
    });
    const result = await page.evaluate(
      (only) =>
        (window as unknown as { axe: { run(options: unknown): Promise<AxeResult> } }).axe.run({
          runOnly: only ? { type: 'rule', values: only } : ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'],
          // What is right is not gathered.
          resultTypes: ['violations'],
        }),
      rules,
    );
    return result.violations
      .filter((one) => one.impact === 'serious' || one.impact === 'critical')
      .map((one) => `${one.id}: ${one.nodes[0]?.html.slice(0, 160)}`);
  }
}
