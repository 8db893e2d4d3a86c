import { createServer, request, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { formatLocation } from '@tessarion/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Front, Route } from '../../src/front/front.js';

/** A front that runs, and how it is ended. */
export interface RunningFront {
  readonly front: Front;
  /** Lets it be away. */
  halt(): Promise<void>;
  stop(): Promise<void>;
}

interface Answer {
  readonly status: number;
  readonly headers: NodeJS.Dict<string | string[]>;
  readonly body: string;
}

const GATE = { user: 'guest', password: 'open sesame' };
const [LIVE, COPY] = ['threadmill/live', 'threadmill/staging'];
const later = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

/** What every kind of front does, against web servers of the test. */
export function frontSuite(title: string, start: () => Promise<RunningFront>): void {
  describe(`a front: ${title}`, { shuffle: false }, () => {
    let running: RunningFront;
    let front: Front;
    let web: Server;
    let webPort: number;
    let [urlOfLive, urlOfCopy] = ['', ''];
    /** Lets answers of `/slow` go. */
    let letGo: () => void = () => undefined;

    const route = (kind: 'live' | 'staging'): Route => ({
      host: new URL(kind === 'live' ? urlOfLive : urlOfCopy).hostname,
      environment: kind === 'live' ? LIVE : COPY,
      kind,
      upstream: { host: '127.0.0.1', port: webPort },
      gate: kind === 'live' ? null : GATE,
      refreshedAt: null,
      console: 'http://console.example',
    });
    const ask = (url: string, path = '/', headers: Record<string, string> = {}): Promise<Answer> =>
      new Promise((resolve, reject) => {
        const { host, port } = new URL(url);
        const call = request({ host: '127.0.0.1', port, path, headers: { host, ...headers } }, (response) => {
          let body = '';
          response.setEncoding('utf8').on('data', (piece: string) => {
            body += piece;
          });
          response.on('end', () => resolve({ status: response.statusCode ?? 0, headers: response.headers, body }));
        });
        call.on('error', reject);
        call.end();
      });

    beforeAll(async () => {
      web = createServer(async (incoming, answer) => {
        if (incoming.url === '/slow') await new Promise<void>((resolve) => (letGo = resolve));
        answer.writeHead(200, { 'content-type': 'text/html' });
        answer.end(
          `<!doctype html><html><body><h1>Cloth at ${incoming.headers.host}${incoming.url}</h1></body></html>`,
        );
      });
      webPort = await new Promise((resolve) =>
        web.listen(0, '127.0.0.1', () => resolve((web.address() as AddressInfo).port)),
      );
      running = await start();
      ({ front } = running);
      [urlOfLive, urlOfCopy] = ['threadmill', 'threadmill--staging'].map((name) =>
        formatLocation(front.addressOf(`${name}.localhost`, '')),
      ) as [string, string];
    }, 60_000);
    afterAll(async () => {
      await running?.stop();
      web.closeAllConnections();
      web.close();
    });

    it('serves what is published, with the path that the site has, and no more of it once it is withdrawn', async () => {
      expect(formatLocation(front.addressOf('shop.localhost', '/de'))).toMatch(
        /^https?:\/\/shop\.localhost(:\d+)?\/de$/,
      );
      await expect.poll(() => front.isReady(), { timeout: 20_000 }).toBe(true);
      await front.publish({ routes: [route('live')], holders: {} });
      expect((await ask(urlOfLive, '/page/dye?a=1')).body).toContain(
        `Cloth at ${new URL(urlOfLive).host}/page/dye?a=1`,
      );
      expect((await ask(urlOfCopy)).body).not.toContain('Cloth');
      expect((await front.visit(`${urlOfLive}/page/dye`)).body).toContain('/page/dye');
      await front.publish({ routes: [], holders: {} });
      expect((await ask(urlOfLive)).body).not.toContain('Cloth');
      await front.publish({ routes: [route('live'), route('staging')], holders: { 'person p-1': ['threadmill'] } });
      expect((await ask(urlOfLive)).status).toBe(200);
      // What serves copies may come up after what serves live.
      await expect.poll(async () => (await ask(urlOfCopy)).status, { timeout: 20_000 }).toBeLessThan(500);
    });

    it('knows whether an address leads to it', async () => {
      expect(await front.standsBefore(urlOfLive)).toBe(true);
      expect(await front.standsBefore(`http://127.0.0.1:${webPort}`)).toBe(false);
      expect(await front.standsBefore('http://127.0.0.1:9')).toBeUndefined();
    });

    it('lets nobody to a copy but who may, by an entry that opens once, and says whose copy it is', async () => {
      const shut = await ask(urlOfCopy);
      expect(shut.body).not.toContain('Cloth');
      expect((await ask(urlOfLive)).body).not.toContain('tsr-marker');
      const entry = new URL(front.entry(urlOfCopy, COPY, 'person p-1', new Date()));
      const enter = (): Promise<Answer> => ask(urlOfCopy, `${entry.pathname}${entry.search}`);
      const entered = await enter();
      expect(entered.status).toBe(303);
      const cookie = String(entered.headers['set-cookie']).split(';')[0] as string;
      const inside = await ask(urlOfCopy, '/', { cookie });
      expect(inside.body).toContain('Cloth');
      expect(inside.body).toContain('tsr-marker');
      expect(String(inside.headers['x-robots-tag'])).toContain('noindex');
      expect((await enter()).status, 'a second time').not.toBe(303);
      const other = new URL(front.entry(urlOfCopy, COPY, 'person p-2', new Date()));
      expect((await ask(urlOfCopy, `${other.pathname}${other.search}`)).status, 'who may not').not.toBe(303);
      await front.publish({ routes: [route('live'), route('staging')], holders: {} });
      expect((await ask(urlOfCopy, '/', { cookie })).body, 'nor who may no more').not.toContain('Cloth');
      expect((await ask(urlOfCopy, '/', { cookie: cookie.replace(/.$/, '') })).body).not.toContain('Cloth');
    });

    it('holds visitors of one environment until it is released, once those who were being served have gone', async () => {
      if (!front.can.hold) return void expect((await front.hold(LIVE, 8000, 5000)).waitedMs, 'or none').toBe(0);
      const slow = ask(urlOfLive, '/slow');
      await later(200);
      let isHeld = false;
      const holding = front.hold(LIVE, 8000, 5000).then((held) => {
        isHeld = true;
        return held;
      });
      await later(200);
      expect(isHeld, 'while one is being served').toBe(false);
      letGo();
      expect((await slow).status).toBe(200);
      const { lease, waitedMs } = await holding;
      expect(waitedMs).toBeGreaterThan(100);
      let answered = 0;
      const waiting = Promise.all([1, 2, 3].map(() => ask(urlOfLive).then(({ status }) => (answered += status / 200))));
      await later(300);
      expect(answered).toBe(0);
      expect((await front.keep(lease, 8000)).isHeld).toBe(true);
      const { heldMs, isOver } = await front.release(lease);
      await waiting;
      expect(answered).toBe(3);
      expect(isOver).toBe(false);
      expect(heldMs).toBeGreaterThan(250);
      expect((await front.release(lease)).isOver, 'twice is no error').toBe(true);
    });

    it('lets visitors go by itself when nobody keeps the hold, and says so', async () => {
      const { lease } = await front.hold(LIVE, 400, 100);
      expect((await ask(urlOfLive)).status).toBe(200);
      expect((await front.keep(lease, 8000)).isHeld).toBe(false);
      expect((await front.release(lease)).isOver).toBe(true);
      expect(await front.release('nobody-s')).toMatchObject({ isOver: true });
    });

    it('counts visitors by environment and hour, each once', async () => {
      if (!front.can.count) return expect(await front.takeTraffic()).toEqual({});
      await front.takeTraffic();
      for (let i = 0; i < 3; i++) await ask(urlOfLive);
      const taken = await front.takeTraffic();
      expect(Object.keys(taken[LIVE] ?? {}).every((hour) => /^\d{4}-\d\d-\d\dT\d\d$/.test(hour))).toBe(true);
      expect(Object.values(taken[LIVE] ?? {}).reduce((sum, one) => sum + one, 0)).toBe(3);
      expect((await front.takeTraffic())[LIVE]).toBeUndefined();
    });

    it('is named where it is away', async () => {
      await running.halt();
      await expect.poll(() => front.isReady(), { timeout: 10_000 }).toBe(false);
      await expect(front.hold(LIVE, 1000, 100)).rejects.toMatchObject({ code: 'server-unreachable' });
      await expect(front.publish({ routes: [], holders: {} })).rejects.toMatchObject({ code: 'server-unreachable' });
      expect((await front.visit(urlOfLive)).error).toBeDefined();
    });
  });
}
