import { createHmac } from 'node:crypto';
import { createServer, type IncomingHttpHeaders } from 'node:http';
import { type AddressInfo, createServer as createTcpServer, type Socket } from 'node:net';
import { type CloudEvent, signedContent } from '@tessarion/core';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { Browsing, find } from './support/browsing.js';
import { addSite, done, onRecords, refusal, SHOP, type Studio, startStudio } from './support/studio.js';

/** What each test's own address was sent. */
let got: { headers: IncomingHttpHeaders; body: string; path: string }[] = [];
let answer = 204;
/** Another program on this machine, which answers as it is told to. */
const other = createServer((request, response) => {
  let body = '';
  request.on('data', (chunk: Buffer) => {
    body += chunk.toString();
  });
  request.on('end', () => {
    if (url.endsWith(request.url ?? '')) got.push({ headers: request.headers, body, path: request.url ?? '' });
    response.writeHead(answer, { location: '/elsewhere' }).end();
  });
});

let studio: Studio;
let url = '';
let number = 0;
beforeAll(async () => {
  await new Promise<void>((resolve) => other.listen(0, '127.0.0.1', resolve));
  studio = await startStudio('live');
  await addSite(studio, { ...SHOP, name: 'saltmarsh', client: 'Saltmarsh Ferries' });
}, 120_000);
beforeEach(() => {
  url = `http://127.0.0.1:${(other.address() as AddressInfo).port}/hook-${number++}`;
  got = [];
  answer = 204;
});
afterEach(async () => {
  for (const { id } of await studio.client.call('webhookList'))
    await studio.client.call('webhookRemove', { params: { id } });
});
afterAll(async () => {
  await studio?.stop();
  await new Promise((resolve) => other.close(resolve));
});

const snapshot = async (site: string) =>
  done(studio, await studio.client.call('snapshotTake', { body: { environment: `${site}/live` } }));
const deliveries = async (id: string) => (await studio.client.call('webhookDeliveries', { params: { id } })).items;

describe('the room of webhooks', () => {
  it('adds one, shows what was sent, sends it again, and removes it', async () => {
    const browsing = await Browsing.open(studio);
    try {
      const page = await browsing.signedIn();
      await page.goto(`${studio.url}/settings`);
      await page.getByRole('link', { name: 'Webhooks' }).click();
      await page.getByText('No webhooks').waitFor();
      expect(await browsing.faults(page)).toEqual([]);
      await page.getByRole('button', { name: 'Tell another program' }).click();
      await page.getByLabel('Address').fill(url);
      await find(page.getByLabel('For'), 'threadmill');
      await page.getByLabel(/in a private network/).check();
      expect(await browsing.faults(page)).toEqual([]);
      await page.getByRole('button', { name: 'Add this webhook' }).click();
      expect(await page.getByLabel('Secret').inputValue()).toMatch(/^whsec_/);
      await snapshot('threadmill');
      await page.getByRole('button', { name: url }).click();
      await page.getByText('taken with 204').waitFor({ timeout: 30_000 });
      expect(await browsing.faults(page)).toEqual([]);
      await page.getByRole('button', { name: 'Send again' }).click();
      await expect.poll(() => got.length, { timeout: 20_000 }).toBe(2);
      await page.setViewportSize({ width: 360, height: 780 });
      expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);
      await page.setViewportSize({ width: 1280, height: 800 });
      await page.getByRole('button', { name: 'Remove the webhook' }).click();
      await page.getByRole('button', { name: /what waits is not sent/ }).click();
      await page.getByText('No webhooks').waitFor();
    } finally {
      await browsing.close();
    }
  });
});

describe('a webhook', () => {
  it('is told of what it wants to know, signed, once', async () => {
    const made = await studio.client.call('webhookAdd', {
      body: { url, scope: 'threadmill', types: ['tessarion.transfer.done'], allowsPrivate: true },
    });
    const transfer = await snapshot('threadmill');
    await snapshot('saltmarsh');
    await expect.poll(() => got.length, { timeout: 20_000 }).toBe(1);
    const { headers, body } = got[0] as (typeof got)[0];
    expect(headers['content-type']).toContain('application/cloudevents+json');
    const event = JSON.parse(body) as CloudEvent;
    expect(event).toMatchObject({
      specversion: '1.0',
      type: 'tessarion.transfer.done',
      subject: transfer.id,
      data: { site: 'threadmill', environment: 'threadmill/live', kind: 'snapshot' },
    });
    const [id, timestamp] = [String(headers['webhook-id']), Number(headers['webhook-timestamp'])];
    const key = Buffer.from(made.secret.slice('whsec_'.length), 'base64');
    const signature = createHmac('sha256', key)
      .update(signedContent(id, timestamp, body))
      .digest('base64');
    expect(headers['webhook-signature']).toBe(`v1,${signature}`);
    expect(id).toBe(event.id);
    await expect.poll(async () => (await deliveries(made.id))[0]?.state).toBe('delivered');
    expect(await onRecords(studio, 'SELECT secret FROM webhook')).not.toContainEqual({ secret: made.secret });
    expect(JSON.stringify(await studio.client.call('webhookList'))).not.toContain('whsec_');
  });

  it('that fails is tried again, later; a redirect is no success and not followed; all is on record', async () => {
    const { id } = await studio.client.call('webhookAdd', { body: { url, scope: 'threadmill', allowsPrivate: true } });
    answer = 302;
    await snapshot('threadmill');
    await expect
      .poll(async () => (await deliveries(id))[0], { timeout: 20_000 })
      .toMatchObject({ tries: 1, status: 302 });
    const [waiting] = await deliveries(id);
    expect(waiting).toMatchObject({ state: 'waiting', problem: 'It answered 302.' });
    expect(Date.parse(waiting?.nextAt ?? '')).toBeGreaterThan(Date.parse(waiting?.at ?? ''));
    answer = 500;
    await onRecords(studio, 'UPDATE webhook_delivery SET due_at = now(), tries = 7 WHERE due_at IS NOT NULL');
    await expect.poll(async () => (await deliveries(id))[0]?.state, { timeout: 20_000 }).toBe('given-up');
    answer = 204;
    await studio.client.call('webhookResend', { params: { id: waiting?.id ?? '' } });
    await expect.poll(async () => (await deliveries(id))[0]?.state, { timeout: 20_000 }).toBe('delivered');
    expect(got.map((one) => one.path)).toEqual(Array(3).fill(new URL(url).pathname));
    expect([...new Set(got.map((one) => one.headers['webhook-id']))]).toEqual([waiting?.id]);
  });

  it('is given up on when it speaks without ever answering', async () => {
    const sockets = new Set<Socket>();
    const slow = createTcpServer((socket) => {
      sockets.add(socket.on('error', () => undefined));
      socket.write('HTTP/1.1 200 OK\r\n');
      const drip = setInterval(() => socket.write('x-later: yes\r\n'), 300);
      socket.on('close', () => clearInterval(drip));
    });
    await new Promise<void>((resolve) => slow.listen(0, '127.0.0.1', resolve));
    const hook = `http://127.0.0.1:${(slow.address() as AddressInfo).port}/hook`;
    const { id } = await studio.client.call('webhookAdd', {
      body: { url: hook, scope: 'threadmill', allowsPrivate: true },
    });
    await snapshot('threadmill');
    await expect
      .poll(async () => (await deliveries(id))[0], { timeout: 30_000 })
      .toMatchObject({ tries: 1, problem: '127.0.0.1 did not answer within 10 s.', state: 'waiting' });
    for (const socket of sockets) socket.destroy();
    slow.close();
  });

  it('does not lead to this machine or into a private network, by whatever name, unless it may', async () => {
    const { port, pathname } = new URL(url);
    const hooks: string[] = [];
    const add = (host: string) =>
      studio.client.call('webhookAdd', { body: { url: `http://${host}:${port}${pathname}`, scope: 'threadmill' } });
    for (const host of ['127.0.0.1', '[::1]', '0.0.0.0', '2130706433', '[::ffff:127.0.0.1]'])
      expect(await refusal(add(host)), host).toBe('invalid');
    // Where a name leads is seen when something is sent: it may lead elsewhere by then.
    hooks.push((await add('localhost')).id);
    await snapshot('threadmill');
    for (const id of hooks)
      await expect
        .poll(async () => (await deliveries(id))[0]?.problem, { timeout: 20_000 })
        .toContain('a private address');
    expect(got).toEqual([]);
  });

  it('is refused with an address that is none, or holds a password', async () => {
    for (const wrong of ['ftp://x.example/', 'javascript:alert(1)', 'http://a:b@x.example/', 'x'])
      await expect(studio.client.call('webhookAdd', { body: { url: wrong } })).rejects.toMatchObject({
        problem: { status: 400 },
      });
  });
});
