import { execFile } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import { Client } from '@tessarion/client';
import { type Browser, chromium, type Page } from 'playwright-core';
import { COLLEAGUES, mailOf } from './people.js';
import { DEMO_PERSON } from './scenario.js';

/** Takes the pictures of docs/screenshots from a running demo: `node screenshots.js DATA-FOLDER OUTPUT-FOLDER [NAME]`. */
const [data = '.demo', output = 'docs/screenshots', only] = process.argv.slice(2);
const demo = JSON.parse(await fs.readFile(join(data, 'demo.json'), 'utf8')) as { password: string; token: string };
const ports = JSON.parse(await fs.readFile(join(data, 'tessarion/run/ports.json'), 'utf8')) as { service: number };
const url = `http://127.0.0.1:${ports.service}`;
const client = new Client({ url, token: demo.token });
await fs.mkdir(output, { recursive: true });

interface Shot {
  readonly name: string;
  readonly path: string;
  readonly scheme?: 'light' | 'dark';
  readonly width?: number;
  readonly height?: number;
  readonly act?: (page: Page) => Promise<void>;
  readonly isStranger?: boolean;
  /** Mail address of who looks; the administrator's when it is left out. */
  readonly by?: string;
}

// The fleet is whole once a round has found the site that is not reached.
while (!(await client.call('siteList', { query: { state: 'not-reached' } })).length)
  await new Promise((done) => setTimeout(done, 1000));
const pushes = await client.call('transferList', { query: { site: 'threadmill', limit: 20 } });
const drift = await client.call('transferList', { query: { kind: 'push', state: 'done', limit: 1 } });
const shown = drift.items[0] ?? pushes.items[0];
const inReview = (await client.call('requestList', { query: { state: 'in-review' } })).items;
const asked = inReview.find((one) => one.openThreads > 0);
const talked =
  asked && (await client.call('requestShow', { params: { id: asked.id } })).threads.find((one) => one.item);

/** A link for the picture of what a guest sees. */
const guest =
  asked &&
  (await client.call('guestInvite', {
    params: { site: asked.site },
    body: {
      name: 'Vera Lund',
      words: 'The first part of the autumn collection, as it would be in the shop.',
      looks: [{ request: asked.id }],
      days: 1,
    },
  }));

const SHOTS: readonly Shot[] = [
  { name: 'fleet-light', path: '/?at=threadmill' },
  { name: 'site-dark', path: '/sites/threadmill?at=staging', scheme: 'dark' },
  { name: 'new-copy', path: '/sites/northgate/new' },
  {
    name: 'forecast-light',
    path: '/sites/threadmill/forecast?from=threadmill/staging&onto=threadmill/live',
    act: (page) => page.locator('[data-item]').nth(3).waitFor(),
  },
  {
    name: 'compare-dark',
    path: '/sites/pendulum/compare?left=pendulum/front-a&right=pendulum/front-b',
    scheme: 'dark',
    act: (page) => page.locator('[data-item]').first().waitFor(),
  },
  {
    name: 'forecast-360',
    path: '/sites/threadmill/forecast?from=threadmill/staging&onto=threadmill/live',
    width: 360,
    height: 780,
    act: (page) => page.locator('[data-item]').first().waitFor(),
  },
  { name: 'transfer', path: `/transfers/${shown?.id}` },
  { name: 'transfers', path: '/transfers' },
  { name: 'snapshots', path: '/snapshots' },
  { name: 'profile', path: '/profiles/quayside' },
  { name: 'requests', path: '/requests?view=all' },
  {
    name: 'request',
    path: `/requests/${asked?.id}?item=${encodeURIComponent(talked?.item ?? '')}`,
    by: mailOf(COLLEAGUES.lise),
    act: (page) => page.locator('[data-thread]').first().waitFor(),
  },
  {
    name: 'guest',
    path: new URL(guest?.url ?? url).pathname + new URL(guest?.url ?? url).hash,
    isStranger: true,
    act: (page) => page.getByText('What do you say?').first().waitFor(),
  },
  { name: 'windows', path: '/windows?as=month' },
  { name: 'timeline', path: '/sites/threadmill/timeline?span=week' },
  { name: 'figures', path: '/figures' },
  { name: 'people', path: '/people' },
  { name: 'journal', path: '/journal?find=hollowoak' },
];

const browser = await chromium.launch({
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
try {
  for (const shot of SHOTS) if (only === undefined || shot.name.startsWith(only)) await take(browser, shot);
  if (only === undefined || only === 'terminal') await terminal();
} finally {
  await browser.close();
  if (guest) await client.call('guestEnd', { params: { id: guest.link.id } });
}

async function take(from: Browser, shot: Shot): Promise<void> {
  const context = await from.newContext({
    viewport: { width: shot.width ?? 1280, height: shot.height ?? 800 },
    colorScheme: shot.scheme ?? 'light',
  });
  const page = await context.newPage();
  if (!shot.isStranger) {
    await page.goto(`${url}/sign-in`);
    await page.getByLabel('Mail address').fill(shot.by ?? DEMO_PERSON.mail);
    await page.getByLabel('Password').fill(demo.password);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.getByText('On the move').first().waitFor();
  }
  await page.goto(`${url}${shot.path}`);
  await page.waitForLoadState('load');
  await page.locator('main, form').first().waitFor();
  await page.waitForFunction(() => document.querySelector('[aria-busy]') === null);
  await shot.act?.(page);
  await page.evaluate(() => document.fonts.ready);
  await page.waitForTimeout(300);
  await page.screenshot({ path: join(output, `${shot.name}.png`) });
  await context.close();
}

/** The main commands in a real terminal window on a virtual screen. */
async function terminal(): Promise<void> {
  const run = promisify(execFile);
  const script = `export TESSARION_URL=${url} TESSARION_TOKEN=${demo.token} LANG=C.UTF-8 PATH="${resolve('bin')}:$PATH"; clear; for c in "site list --kind dev" "forecast --from threadmill/staging --only product:9" "request list" "window show threadmill"; do printf '\\033[1m$ tessarion %s\\033[0m\\n' "$c"; tessarion $c; echo; done; sleep 20`;
  await fs.writeFile(join(data, 'terminal.sh'), script);
  await run('xvfb-run', [
    '-a',
    '-s',
    '-screen 0 1280x800x24',
    'sh',
    '-c',
    `xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x50+0+0 -bg '#161c1f' -fg '#e5ebec' -e sh ${join(resolve(data), 'terminal.sh')} & sleep 9; import -window root ${resolve(output)}/terminal.png`,
  ]);
}
