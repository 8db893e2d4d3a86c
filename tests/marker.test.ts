import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ownBrowser } from './support/browsing.js';
import { GATE, type GatewayAlone, startGateway } from './support/gateway-alone.js';

const HOST = 'threadmill--staging.localhost';

let browser: Browser;
let site: Server;
let gateway: GatewayAlone;
let policies: Record<string, string | string[]> = {};

beforeAll(async () => {
  site = createServer((_incoming, answer) =>
    answer
      .writeHead(200, { 'content-type': 'text/html; charset=utf-8', ...policies })
      .end(
        '<!doctype html><html lang="en"><title>Cloth</title><style>h1{color:red}</style><body><h1>Cloth</h1></body></html>',
      ),
  );
  await new Promise<void>((resolve) => site.listen(0, '127.0.0.1', resolve));
  gateway = await startGateway([{ host: HOST, kind: 'staging', port: (site.address() as AddressInfo).port }]);
  browser = await ownBrowser();
}, 60_000);
afterAll(async () => {
  site?.close();
  site?.closeAllConnections();
  await gateway?.stop();
});

async function open(headers: Record<string, string | string[]>, act: (page: Page) => Promise<void>) {
  policies = headers;
  const context = await browser.newContext();
  try {
    const page = await context.newPage();
    const address = `http://${HOST}:${gateway.port}/`;
    // A gateway that has just been started answers before it knows its routes.
    const asksForName = async (): Promise<number> => {
      await page.goto(address).catch(() => undefined);
      return page.getByLabel('Name').count();
    };
    await expect.poll(asksForName, { timeout: 30_000 }).toBe(1);
    await page.getByLabel('Name').fill(GATE.user);
    await page.getByLabel('Password').fill(GATE.password);
    await page.getByRole('button').click();
    await page.getByRole('heading', { name: 'Cloth' }).waitFor();
    await act(page);
  } finally {
    await context.close();
  }
}

const strip = (page: Page) => page.locator('tsr-marker details');

describe('the strip that says which copy one looks at', () => {
  it.each([
    ['no policy', {}],
    ['scripts of its own only', { 'content-security-policy': "script-src 'self'" }],
    ['nothing but its own', { 'content-security-policy': "default-src 'self'" }],
    ['nothing at all', { 'content-security-policy': "default-src 'none'" }],
    ['styles by nonce', { 'content-security-policy': "default-src 'self'; style-src 'nonce-abc'" }],
    ['style elements apart', { 'content-security-policy': "style-src 'none'; style-src-elem 'self'" }],
    ['inline styles', { 'content-security-policy': "default-src 'self'; style-src 'unsafe-inline'" }],
    ['trusted types', { 'content-security-policy': "require-trusted-types-for 'script'; script-src 'none'" }],
    ['two policies', { 'content-security-policy': ["script-src 'self'", "default-src 'none', style-src 'self'"] }],
  ])('shows on a page with a policy for %s, and folds', async (_what, headers) => {
    await open(headers, async (page) => {
      await strip(page).getByText('threadmill--staging/staging').waitFor();
      const box = await strip(page).boundingBox();
      const { height, width } = page.viewportSize() ?? { height: 0, width: 0 };
      expect(box).toMatchObject({ x: 0, y: height - 28, width, height: 28 });
      expect(await strip(page).evaluate((one) => getComputedStyle(one).position)).toBe('fixed');
      await strip(page).locator('summary').click();
      expect((await strip(page).boundingBox())?.width).toBeLessThanOrEqual(40);
      await strip(page).locator('summary').click();
      expect((await strip(page).boundingBox())?.width).toBe(width);
    });
  });

  it('lets a page run and show nothing that its policy keeps out', async () => {
    await open({ 'content-security-policy': "style-src 'self'; script-src 'self'" }, async (page) => {
      await strip(page).waitFor();
      expect(await page.locator('h1').evaluate((one) => getComputedStyle(one).color), 'not red').toBe('rgb(0, 0, 0)');
    });
  });
});
