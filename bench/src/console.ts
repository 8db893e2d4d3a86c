import { readFile } from 'node:fs/promises';
import { join } from 'node:path';
import { PrivateCluster } from '@tessarion/cluster';
import pg from 'pg';
import { type Browser, type CDPSession, chromium, type Page } from 'playwright-core';
import { type Installation, median, processorSeconds, seconds } from './installation.js';
import { type Figure, figure, installShop, withInstallation } from './workloads.js';

const SIZES = (process.env.BENCH_SITES ?? '24,300,2000').split(',').map(Number);
const ROUNDS = 5;
const KEYS = 8;
const CALLS = 20;
const PASSWORD = 'a password for the bench';

/** The console with ever more sites: what is sent, when it is seen, and what a key costs. */
export const consoleRooms = (): Promise<Figure[]> =>
  withInstallation(async (on) => {
    await installShop(on);
    const { host, port, user, password } = await (await PrivateCluster.at(join(on.data, 'tessarion/records'))).start();
    const records = new pg.Client({ host, port, user, password, database: 'postgres' });
    await records.connect();
    const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] });
    const figures: Figure[] = [];
    try {
      for (const sites of SIZES) {
        await growTo(records, sites);
        figures.push(await measure(on, browser, sites));
      }
    } finally {
      await browser.close();
      await records.end();
    }
    return figures;
  });

/** Sites like the one that is there, until there are so many. */
async function growTo(records: pg.Client, sites: number): Promise<void> {
  const name = "'site-' || lpad(n::text, 4, '0')";
  const like = async (table: string, changed: string, model: string): Promise<void> => {
    // What the database draws by itself is left to it.
    const { rows } = await records.query<{ names: string }>(
      `SELECT string_agg(quote_ident(column_name), ', ') AS names FROM information_schema.columns
       WHERE table_name = $1 AND table_schema = 'public' AND is_identity = 'NO' AND is_generated = 'NEVER'`,
      [table],
    );
    const names = rows[0]?.names ?? '';
    await records.query(
      `INSERT INTO ${table} (${names}) SELECT ${names.replaceAll(/[^ ,]+/g, 'made.$&')}
       FROM ${table} t, generate_series(1, $1::int) AS n, LATERAL jsonb_populate_record(t, ${changed}) AS made
       WHERE ${model} ON CONFLICT DO NOTHING`,
      [sites - 1],
    );
  };
  await like('site', `jsonb_build_object('name', ${name}, 'client', 'Client ' || n % 40)`, "t.name = 'shop'");
  await like('environment', `jsonb_build_object('site', ${name}, 'path', ${name} || '/' || t.name)`, "t.site = 'shop'");
  await records.query('ANALYZE');
}

async function measure(on: Installation, browser: Browser, sites: number): Promise<Figure> {
  await on.client.call('fleetShow');
  const [service, all] = [await ownSeconds(on), await processorSeconds(on)];
  const answer = await seconds(async () => {
    for (let i = 0; i < CALLS; i++) await on.client.call('fleetShow');
  });
  const perCall = (since: number, now: number): number => Math.round((1000 * (now - since)) / CALLS);
  const [ofService, ofAll] = [perCall(service, await ownSeconds(on)), perCall(all, await processorSeconds(on))];
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  const page = await context.newPage();
  await page.goto(`${on.place.url}/sign-in`);
  await page.getByLabel('Mail address').fill('maren.brask@copperlane.example');
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.locator('[data-row]').first().waitFor();
  const session = await context.newCDPSession(page);
  await session.send('Performance.enable');
  const loads: Load[] = [];
  for (let i = 0; i < ROUNDS; i++) loads.push(await load(page, session, on.place.url));
  const of = (pick: (one: Load) => number): number => Math.round(median(loads.map(pick)));
  await page.evaluate('document.activeElement?.blur()');
  const down = await cost(page, session, () => page.keyboard.press('j'));
  await page.keyboard.press('/');
  const letters = [...'site-000'];
  let at = 0;
  const filter = await cost(page, session, () => page.keyboard.type(letters[at++ % letters.length] as string));
  await page.keyboard.press('Escape');
  await page.keyboard.press('Control+k');
  await page.getByPlaceholder('Site, environment').waitFor();
  at = 0;
  const find = await cost(page, session, () => page.keyboard.type(letters[at++ % letters.length] as string));
  await context.close();
  return figure(
    `console ${sites}`,
    of((one) => one.seen) / 1000,
    null,
    null,
    'seen ≤ 1 s, /fleet ≤ 60 ms of the service, a letter ≤ 50 ms',
    `first paint ${of((one) => one.paint)} ms, sites seen ${of((one) => one.seen)} ms, processor time of the page ${of((one) => one.task)} ms, ${of((one) => one.elements)} elements, shifted by ${Math.max(...loads.map((one) => one.shift)).toFixed(3)}; key j ${down} ms, filter letter ${filter} ms, finder letter ${find} ms; /fleet ${ofService} ms of the service, ${ofAll} ms of all, answered in ${Math.round((1000 * answer) / CALLS)} ms`,
  );
}

interface Load extends PageFacts {
  /** Milliseconds until sites are there, and of the main thread until all is. */
  readonly seen: number;
  readonly task: number;
}

interface PageFacts {
  /** Milliseconds until the first content is painted. */
  readonly paint: number;
  /** How far things moved that had been painted (Layout Instability). */
  readonly shift: number;
  readonly elements: number;
}

/** Run in the page, once all is there. */
const FACTS = `new Promise((resolve) => {
  let shift = 0;
  new PerformanceObserver((list) => {
    for (const one of list.getEntries()) shift += one.value;
  }).observe({ type: 'layout-shift', buffered: true });
  const paint = performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0;
  setTimeout(() => resolve({ paint, shift, elements: document.querySelectorAll('*').length }), 100);
})`;

/** Loads the fleet anew, with what a browser keeps. */
async function load(page: Page, session: CDPSession, url: string): Promise<Load> {
  await page.goto(url);
  await page.locator('[data-row]').first().waitFor();
  const seen = await page.evaluate<number>('performance.now()');
  await page.waitForLoadState('networkidle');
  const found = await page.evaluate<PageFacts>(FACTS);
  return { ...found, seen, task: 1000 * (await taskSeconds(session)) };
}

async function taskSeconds(session: CDPSession): Promise<number> {
  const { metrics } = await session.send('Performance.getMetrics');
  return metrics.find(({ name }) => name === 'TaskDuration')?.value ?? 0;
}

/** @returns milliseconds of the page's main thread, the median of some presses */
async function cost(page: Page, session: CDPSession, press: () => Promise<void>): Promise<number> {
  const times: number[] = [];
  for (let i = 0; i < KEYS; i++) {
    const before = await taskSeconds(session);
    await press();
    await page.waitForTimeout(300);
    times.push(1000 * ((await taskSeconds(session)) - before));
  }
  return Math.round(median(times));
}

/** Processor time of the service's own process. */
async function ownSeconds({ roots }: Installation): Promise<number> {
  const text = await readFile(`/proc/${roots[0]}/stat`, 'utf8');
  const [user = 0, system = 0] = text
    .slice(text.lastIndexOf(')') + 2)
    .split(' ')
    .slice(11, 13)
    .map(Number);
  return (user + system) / 100;
}
