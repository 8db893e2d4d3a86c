import * as fs from 'node:fs/promises';
import { type IncomingHttpHeaders, request } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { PrivateCluster } from '@tessarion/cluster';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startCluster } from '../../../tests/support/clusters.js';
import { type ConfigFormat, readConfig, type SiteConfig, writeConfig } from '../src/config.js';
import { makeDatabase } from '../src/database.js';
import { installSite } from '../src/install.js';
import { WebHost } from '../src/web-host.js';

let folder: string;
let cluster: PrivateCluster;
let host: WebHost;
let port: number;
const SITE = 'kettle.localhost';

beforeAll(async () => {
  folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-host-'));
  await fs.chmod(folder, 0o711);
  const started = await startCluster(join(folder, 'cluster'));
  cluster = started.cluster;
  const server = started.access;
  host = new WebHost(join(folder, 'hosts'));
  await fs.mkdir(join(folder, 'hosts'));
  port = await host.listen(0);
  await makeDatabase(server, 'kettle', 'boiling');
  await installSite({
    folder: join(folder, 'hosts/kettle--live'),
    format: 'env',
    baseUrl: `http://${SITE}:${port}`,
    database: { host: server.host, port: server.port, name: 'kettle', user: 'kettle', password: 'boiling' },
    content: {
      title: 'Kettle & Sons',
      colour: '#246',
      pages: [
        { slug: 'home', title: 'Home', body: '<h1>Tea at four</h1>' },
        { slug: 'about', title: 'About', body: '<p>Since 1890.</p>' },
      ],
      products: [{ slug: 'pot', title: 'Pot <large>', description: 'Holds six.', price: '20.00', stock: 10 }],
      sailings: [{ route: 'Pier – Holm', departs: '09:30', vessel: 'Terna' }],
    },
  });
}, 60_000);
afterAll(async () => {
  await host?.close();
  await cluster?.stop('immediate');
  await fs.rm(cluster.folder, { recursive: true, force: true });
  await fs.rm(folder, { recursive: true, force: true });
});

interface Answer {
  readonly status: number;
  readonly headers: IncomingHttpHeaders;
  readonly body: string;
}

function ask(path: string, form?: Record<string, string>, headers: Record<string, string> = {}): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const body = form && new URLSearchParams(form).toString();
    const call = request(
      {
        host: '127.0.0.1',
        port,
        path,
        method: form ? 'POST' : 'GET',
        headers: { host: SITE, ...(form ? { 'content-type': 'application/x-www-form-urlencoded' } : {}), ...headers },
      },
      (response) => {
        let text = '';
        response.on('data', (chunk: Buffer) => {
          text += chunk.toString();
        });
        response.on('end', () => resolve({ status: response.statusCode ?? 0, headers: response.headers, body: text }));
      },
    );
    call.on('error', reject);
    call.end(body);
  });
}

async function rows(sql: string): Promise<Record<string, unknown>[]> {
  const { port: databasePort } = await cluster.start();
  const client = new pg.Client({
    host: '127.0.0.1',
    port: databasePort,
    user: 'kettle',
    password: 'boiling',
    database: 'kettle',
  });
  await client.connect();
  try {
    return (await client.query(sql)).rows as Record<string, unknown>[];
  } finally {
    await client.end();
  }
}

const stock = async (): Promise<number> => Number((await rows('SELECT stock FROM product'))[0]?.stock);

describe('the stand-in web host', () => {
  it('shows a site by its host name: pages, products, links at its own address, all escaped', async () => {
    const home = await ask('/');
    expect(home.status).toBe(200);
    for (const word of ['Tea at four', 'Kettle &#38; Sons', 'Pot &#60;large&#62;', 'Pier – Holm'])
      expect(home.body).toContain(word);
    expect((await ask('/page/about')).body).toContain('Since 1890.');
    expect((await ask('/page/none')).status).toBe(404);
    expect((await ask('/', undefined, { host: 'elsewhere.localhost' })).status).toBe(404);
    expect((await rows('SELECT path FROM page_cache')).map((row) => row.path)).toContain('/page/about');
  });

  it('takes an order whole: stock, customer, lines and a mail; or not at all', async () => {
    const order = { product: '1', name: 'Aud', email: 'aud@post.example', quantity: '3' };
    const left = await stock();
    expect((await ask('/order', order)).body).toContain('is on its way');
    expect(await stock()).toBe(left - 3);
    expect(
      await rows(
        'SELECT quantity, payment_mode FROM purchase_line JOIN purchase p ON p.id = purchase_id ORDER BY p.id DESC LIMIT 1',
      ),
    ).toEqual([{ quantity: 3, payment_mode: 'live' }]);
    const before = await rows('SELECT count(*)::int AS n FROM customer');
    expect((await ask('/order', { ...order, product: '99' })).status).toBe(500);
    expect(await rows('SELECT count(*)::int AS n FROM customer')).toEqual(before);
  });

  it('takes more orders at once than it has connections', async () => {
    const order = { product: '1', name: 'Aud', email: 'aud@post.example', quantity: '1' };
    const left = await stock();
    const answers = await Promise.all(Array.from({ length: 40 }, () => ask('/order', order)));
    expect(answers.map((one) => one.status)).toEqual(Array(40).fill(200));
    expect(await stock()).toBe(left - 40);
  });

  it('sends its pictures and styles, and nothing beside them', async () => {
    expect((await ask('/styles/site.css')).headers['content-type']).toContain('text/css');
    const pictures = await fs.readdir(join(folder, 'hosts/kettle--live/main/media'), { recursive: true });
    const picture = pictures.find((name) => name.endsWith('.svg')) as string;
    expect((await ask(`/media/${picture}`)).headers['content-type']).toContain('image/svg+xml');
    for (const path of [
      '/media/../config/site.env',
      '/media/%2e%2e/config/site.env',
      '/styles/..%2fconfig/site.env',
      '/media/%2e%2e/%2e%2e/%2e%2e/%2e%2e/etc/passwd',
    ]) {
      const answer = await ask(path);
      expect([path, answer.status]).toEqual([path, 404]);
      expect(answer.body).not.toContain('boiling');
    }
  });

  it('lets editors in with their login, and lets nobody else write', async () => {
    expect((await ask('/editor')).body).toContain('/editor/sign-in');
    expect((await ask('/editor/sign-in', { login: 'editor', password: 'wrong' })).status).toBe(403);
    expect((await ask('/editor/page', { id: '1', title: 'x', body: 'x' })).status).toBe(403);
    const entered = await ask('/editor/sign-in', { login: 'editor', password: 'editor-of-the-demo' });
    expect(entered.status).toBe(303);
    const cookie = String(entered.headers['set-cookie']).split(';')[0] as string;
    const [page] = await rows("SELECT id FROM page WHERE slug = 'about'");
    const saved = await ask(
      '/editor/page',
      { id: String(page?.id), title: 'About us', body: '<p>Since 1890. New here: biscuits.</p>' },
      { cookie },
    );
    expect(saved.status).toBe(303);
    expect((await ask('/page/about')).body).toContain('New here: biscuits.');
    const forged = cookie.replace(/\.[0-9a-f]{4}/, '.0000');
    expect((await ask('/editor/page', { id: '1', title: 'x', body: 'x' }, { cookie: forged })).status).toBe(403);
  });

  it('reads its settings again when they change', async () => {
    const file = join(folder, 'hosts/kettle--live/main/config/site.env');
    const text = await fs.readFile(file, 'utf8');
    await fs.writeFile(file, text.replace(/^PAYMENT_MODE=.*$/m, 'PAYMENT_MODE=test'));
    await expect.poll(async () => (await ask('/')).body, { timeout: 5000 }).toContain('Payments are in test mode');
    await fs.writeFile(file, text);
    await expect.poll(async () => (await ask('/')).body, { timeout: 5000 }).not.toContain('Payments are in test mode');
  });
});

describe('settings files of sites', () => {
  const config: SiteConfig = {
    baseUrl: 'https://kettle.example',
    database: { host: '127.0.0.1', port: 5432, name: 'kettle', user: 'k', password: 'p w=;#"x' },
    mailMode: 'send',
    paymentMode: 'test',
    signingKey: 'abc',
    mapKey: 'map-1',
  };

  it.each(['env', 'ini', 'json'] as ConfigFormat[])('are read as they were written (%s)', async (format) => {
    const root = await fs.mkdtemp(join(folder, 'config-'));
    const { file, text } = writeConfig(config, format);
    await fs.mkdir(join(root, 'config'));
    await fs.writeFile(join(root, file), text);
    expect(readConfig(root)).toEqual(config);
  });

  it('that are missing are said to be', () => {
    expect(() => readConfig(join(folder, 'nowhere'))).toThrow('no settings file');
  });
});
