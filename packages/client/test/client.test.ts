import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { Client, followEvents, keepingCookie, ServiceProblem, ServiceUnreachable, sendByFetch } from '../src/index.js';
import { sendByNode } from '../src/node.js';

let server: Server;
let url: string;
let serve: (incoming: IncomingMessage, answer: ServerResponse, body: string) => void;
let seen: { method: string; url: string; headers: IncomingMessage['headers']; body: string }[];

beforeEach(async () => {
  seen = [];
  server = createServer((incoming, answer) => {
    let body = '';
    incoming.on('data', (chunk: Buffer) => {
      body += chunk.toString();
    });
    incoming.on('end', () => {
      seen.push({ method: incoming.method ?? '', url: incoming.url ?? '', headers: incoming.headers, body });
      serve(incoming, answer, body);
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
});
afterEach(() => {
  server.closeAllConnections();
  server.close();
});

const json = (answer: ServerResponse, status: number, value: unknown): void => {
  answer.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(value));
};
const failure = async (act: Promise<unknown>): Promise<unknown> =>
  act.then(
    () => undefined,
    (error: unknown) => error,
  );

const WAYS = [
  { by: 'fetch', send: sendByFetch },
  { by: 'Node', send: sendByNode },
];

describe.each(WAYS)('a call by $by', ({ send }) => {
  it('puts parameters, query, body, token and key where the contract has them', async () => {
    serve = (_incoming, answer) => json(answer, 200, []);
    const client = new Client({ url, send, token: 'secret' });
    await client.call('siteList', { query: { client: 'Threadmill & Daughters', state: 'failed' } });
    expect(seen[0]).toMatchObject({
      method: 'GET',
      url: '/api/v1/sites?client=Threadmill+%26+Daughters&state=failed',
      headers: { authorization: 'Bearer secret' },
    });
    await failure(client.call('snapshotTake', { body: { environment: 'a/b' }, idempotencyKey: 'k-1' }));
    expect(seen[1]).toMatchObject({
      method: 'POST',
      headers: { 'content-type': 'application/json', 'idempotency-key': 'k-1' },
      body: '{"environment":"a/b"}',
    });
    await failure(client.call('siteShow', { params: { site: '../x?y#z' } }));
    expect(seen[2]?.url).toBe('/api/v1/sites/..%2Fx%3Fy%23z');
  });

  it('gives text piece by piece as it comes, whole letters in each, and says when it breaks off', async () => {
    const letters = Buffer.from('{"name":"Ærø"}\n');
    serve = (_incoming, answer) => {
      answer.writeHead(200, { 'content-type': 'application/jsonl' });
      answer.write(letters.subarray(0, 10));
      setTimeout(() => answer.write(letters.subarray(10), () => answer.socket?.destroy()), 20);
    };
    const client = new Client({ url, send });
    let text = '';
    const reading = (async () => {
      for await (const piece of await client.call('journalExport', { query: { outcome: 'failed' } })) text += piece;
    })();
    expect(await failure(reading)).toBeInstanceOf(ServiceUnreachable);
    expect(text).toBe('{"name":"Ærø"}\n');
    expect(seen[0]?.url).toBe('/api/v1/journal/export?outcome=failed');

    serve = (_incoming, answer) =>
      json(answer, 403, { type: 'tessarion:not-allowed', title: 'Not allowed', status: 403, detail: 'No.' });
    expect(await failure(client.call('journalExport'))).toBeInstanceOf(ServiceProblem);
  });

  it('gives problems as they are told, and makes one of what is none', async () => {
    serve = (_incoming, answer) =>
      json(answer, 409, {
        type: 'tessarion:taken',
        title: 'Already taken',
        status: 409,
        detail: 'There is one.',
        next: 'Choose another name.',
      });
    const taken = await failure(new Client({ url, send }).call('siteList'));
    expect(taken).toBeInstanceOf(ServiceProblem);
    expect((taken as ServiceProblem).problem).toMatchObject({ type: 'tessarion:taken', next: 'Choose another name.' });
    serve = (_incoming, answer) => answer.writeHead(502).end('<html>Bad gateway</html>');
    const odd = await failure(new Client({ url, send }).call('siteList'));
    expect((odd as ServiceProblem).problem).toMatchObject({ status: 502, title: 'Unexpected answer' });
  });

  it('sends back the cookie that was set last', async () => {
    let sent = 0;
    serve = (_incoming, answer) => {
      const cookie = ['tsr=one; HttpOnly; Path=/', 'tsr=two', undefined][sent++];
      if (cookie !== undefined) answer.setHeader('set-cookie', cookie);
      json(answer, 200, []);
    };
    const client = new Client({ url, send: keepingCookie(send) });
    for (let i = 0; i < 4; i++) await client.call('siteList');
    expect(seen.map((one) => one.headers.cookie)).toEqual([undefined, 'tsr=one', 'tsr=two', 'tsr=two']);
  });

  it('does not take an answer of another form for what was asked', async () => {
    serve = (_incoming, answer) => json(answer, 200, [{ name: 'half a site' }]);
    const error = await failure(new Client({ url, send }).call('siteList'));
    expect((error as Error).name).toBe('ZodError');
  });

  it('tells a service that is away from one that refuses, and a call that was given up from both', async () => {
    const away = await failure(new Client({ url: 'http://127.0.0.1:9', send }).call('siteList'));
    expect(away).toBeInstanceOf(ServiceUnreachable);
    expect((away as Error).message).toContain('http://127.0.0.1:9');
    serve = () => undefined;
    const abort = new AbortController();
    const given = failure(new Client({ url, send }).call('siteList', { signal: abort.signal }));
    abort.abort();
    expect((await given) as Error).not.toBeInstanceOf(ServiceUnreachable);
  });
});

describe.each(WAYS)('following events by $by', ({ send }) => {
  const event = (id: number, site: string): string => `id: ${id}\ndata: ${JSON.stringify({ type: 'site', site })}\n\n`;

  it('goes on where it broke off, and passes over what it does not know', async () => {
    const connections: ServerResponse[] = [];
    serve = (_incoming, answer) => {
      answer.writeHead(200, { 'content-type': 'text/event-stream' });
      connections.push(answer);
      if (connections.length === 1) {
        answer.write(`${event(1, 'one')}id: 2\ndata: {"type":"of a later version"}\n\n`);
        // Cut in the middle of an event.
        answer.write(event(3, 'three').slice(0, 12));
        setTimeout(() => answer.destroy(), 30);
      } else answer.write(event(3, 'three'));
    };
    const abort = new AbortController();
    const got: string[] = [];
    for await (const one of followEvents(new Client({ url, send, token: 't' }), abort.signal)) {
      if (one.type === 'site') got.push(one.site);
      if (got.length === 2) abort.abort();
    }
    expect(got).toEqual(['one', 'three']);
    expect(seen.map((one) => one.headers['last-event-id'])).toEqual([undefined, '2']);
    expect(seen[0]?.headers.authorization).toBe('Bearer t');
  });

  it('ends at once when nobody listens any more', async () => {
    serve = (_incoming, answer) => answer.writeHead(200, { 'content-type': 'text/event-stream' }).write(': hello\n\n');
    const abort = new AbortController();
    const reading = (async () => {
      for await (const _one of followEvents(new Client({ url, send }), abort.signal)) expect.unreachable();
    })();
    await expect.poll(() => seen.length).toBe(1);
    abort.abort();
    await reading;
  });
});
