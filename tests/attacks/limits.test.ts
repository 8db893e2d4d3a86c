import { createHash } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { request } from 'node:http';
import { connect } from 'node:net';
import { text } from 'node:stream/consumers';
import { ServiceProblem } from '@tessarion/client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { newcomer, onRecords, refusal, type Studio, startStudio, workerPids } from '../support/studio.js';
import { tried } from './tried.js';

/** As at a user's. */
const MOST = 3000;

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('staging', { args: ['--most-requests', String(MOST), '--trusted-front', '127.0.0.1'] });
}, 120_000);
afterAll(() => studio?.stop());

let number = 0;
const somebody = (role = 'developer') => newcomer(studio, `busy-${number++}@copperlane.example`, role, 'everything');

interface Answer {
  readonly status: number;
  readonly problem: string;
  readonly headers: Record<string, string | string[] | undefined>;
}

/** Posts from one of this machine's loopback addresses. */
function post(
  path: string,
  body: unknown,
  { from = '127.0.0.1', ...headers }: Readonly<Record<string, string>> = {},
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const asked = request(
      `${studio.url}/api/v1${path}`,
      { method: 'POST', localAddress: from, headers: { 'content-type': 'application/json', ...headers } },
      async (response) => {
        const { type } = JSON.parse((await text(response)) || '{}') as { type?: string };
        const problem = type?.replace('tessarion:', '') ?? 'done';
        resolve({ status: response.statusCode ?? 0, problem, headers: response.headers });
      },
    );
    asked.on('error', reject);
    asked.end(JSON.stringify(body));
  });
}

/** Calls until it is held off. */
async function untilHeldOff(call: () => Promise<unknown>): Promise<ServiceProblem> {
  for (let i = 0; i < 2 * MOST; i++) {
    tried('limits');
    try {
      await call();
    } catch (error) {
      if (error instanceof ServiceProblem && error.problem.status === 429) return error;
      if (!(error instanceof ServiceProblem)) throw error;
    }
  }
  throw new Error('nobody was held off');
}

describe('what somebody may ask in a minute', () => {
  it('has an end, which is no end for others', async () => {
    const [client, other] = [await somebody(), await somebody()];
    const given = { params: { site: 'threadmill' }, body: { name: 'staging', kind: 'dev' } } as const;
    let asked = 0;
    const { problem } = await untilHeldOff(() => {
      asked++;
      return client.call('environmentCreate', given);
    });
    expect(asked, 'what costs more counts as more').toBeLessThan(MOST / 5);
    expect(problem).toMatchObject({ type: 'tessarion:too-many-requests', next: expect.stringMatching(/^Wait \d+ s/) });
    expect(await refusal(other.call('roleList'))).toBe('done');
    expect(await refusal(studio.client.call('siteList'))).toBe('done');
  });

  it('is less for strangers of one place together, and takes nothing from who has signed in there', async () => {
    const client = await somebody();
    await untilHeldOff(async () => {
      const { status } = await post('/mail-stops', { person: 'p-0', kind: 'approved', key: 'x' });
      if (status === 429) throw new ServiceProblem({ type: '', title: '', status, detail: '' });
    });
    expect(await refusal(client.call('roleList'))).toBe('done');
    const elsewhere = await post('/mail-stops', {}, { from: '127.0.0.3' });
    expect(elsewhere.status).not.toBe(429);
  });

  it('is told with the time to wait, in the header too', async () => {
    const wanted = () => post('/invitations', { key: 'none', password: 'twelve letters' }, { from: '127.0.0.4' });
    let answer = await wanted();
    for (let i = 0; i < MOST && answer.status !== 429; i++) answer = await wanted();
    expect(Number(answer.headers['retry-after'])).toBeGreaterThan(0);
  });
});

describe('what runs at once for one person', () => {
  it('are twenty forecasts', async () => {
    const pids = await workerPids(studio);
    for (const pid of pids) process.kill(pid, 'SIGSTOP');
    try {
      const body = { from: 'threadmill/staging', onto: 'threadmill/live' };
      const ends: string[] = [];
      for (let i = 0; i < 3; i++) {
        // By other requests of theirs as well, so that these do not hold them off.
        const client = await somebody();
        const all = await Promise.all(
          Array.from({ length: 11 }, () => refusal(client.call('forecastCreate', { body }))),
        );
        ends.push(...all);
        tried('limits');
      }
      expect(ends.filter((one) => one === 'done')).toHaveLength(33);
      const { id } = await studio.client.call('me');
      await onRecords(studio, `UPDATE forecast SET person_id = '${id}' WHERE state = 'computing'`);
      const refused = await studio.client.call('forecastCreate', { body }).catch((error: Error) => error);
      expect(refused).toMatchObject({ problem: { type: 'tessarion:too-many-requests' } });
      expect(String(refused)).toContain('33 of your forecasts');
    } finally {
      for (const pid of pids) process.kill(pid, 'SIGCONT');
    }
  });

  it('are twenty streams of events', async () => {
    const headers = { authorization: `Bearer ${studio.token}` };
    const ending = new AbortController();
    const listen = () => fetch(`${studio.url}/api/v1/events`, { headers, signal: ending.signal });
    const all = await Promise.all(Array.from({ length: 20 }, listen));
    expect(all.map((one) => one.status)).toEqual(Array(20).fill(200));
    tried('limits');
    expect((await listen()).status).toBe(429);
    ending.abort();
    await expect.poll(async () => (await fetch(`${studio.url}/api/v1/events`, { headers })).status).toBe(200);
  });
});

describe('a stream of events that nobody reads', () => {
  it('is let go before much is kept for it, and goes on where it was', async () => {
    const url = new URL(studio.url);
    const lines = 'x'.repeat(2000);
    const [start] = await onRecords(studio, 'SELECT coalesce(max(id), 0)::int AS id FROM event');
    const first = Number(start?.id);
    const socket = connect(Number(url.port), url.hostname);
    socket.on('error', () => undefined);
    socket.write(`GET /api/v1/events HTTP/1.1\r\nHost: ${url.host}\r\nAuthorization: Bearer ${studio.token}\r\n\r\n`);
    await new Promise((resolve) => socket.once('readable', resolve));
    tried('limits');
    await onRecords(
      studio,
      `INSERT INTO event (at, data) SELECT clock_timestamp(), jsonb_build_object('type', 'site', 'site', '${lines}')
       FROM generate_series(1, 20000)`,
    );
    const hex = (socket.localPort as number).toString(16).toUpperCase().padStart(4, '0');
    // The service's end of it, established (01).
    const isServed = async (): Promise<boolean> =>
      new RegExp(`: \\S+ \\w+:${hex} 01 `).test(await fs.readFile('/proc/net/tcp', 'utf8'));
    expect(await isServed()).toBe(true);
    await onRecords(studio, "SELECT pg_notify('tessarion_event', '1')");
    await expect.poll(isServed, { timeout: 30_000 }).toBe(false);
    let got = 0;
    for await (const chunk of socket) got += (chunk as Buffer).length;
    expect(got).toBeLessThan(20_000_000);
    let [events, last] = [0, first];
    // One that reads too slowly here is let go as well, and goes on as browsers do: from the last event that it has.
    while (events < 20_000) {
      const answer = await fetch(`${studio.url}/api/v1/events`, {
        headers: { authorization: `Bearer ${studio.token}`, 'last-event-id': String(last) },
      });
      const before = events;
      let tail = '';
      try {
        for await (const chunk of answer.body as unknown as AsyncIterable<Uint8Array>) {
          const parts = (tail + Buffer.from(chunk).toString('latin1')).split('\n\n');
          tail = parts.pop() ?? '';
          for (const part of parts) last = Number(/^id: (\d+)$/m.exec(part)?.[1] ?? last);
          events += parts.filter((part) => part.includes(lines)).length;
          if (events >= 20_000) break;
        }
      } catch (error) {
        expect(String(error)).toContain('terminated');
      }
      expect(events, 'each time it gets further').toBeGreaterThan(before);
    }
    expect(events).toBe(20_000);
    await onRecords(studio, `DELETE FROM event WHERE id > ${first}`);
  });
});

describe('passwords', () => {
  it('are hashed for nobody whose key is none, and while no transaction waits', async () => {
    const waiting: number[] = [];
    let isOver = false;
    const looking = (async () => {
      while (!isOver) {
        const [row] = await onRecords(
          studio,
          "SELECT count(*)::int AS count FROM pg_stat_activity WHERE state = 'idle in transaction' AND xact_start < now() - interval '40 ms'",
        );
        waiting.push(Number(row?.count));
      }
    })();
    const ends = await Promise.all(
      Array.from({ length: 40 }, (_, i) =>
        post('/invitations', { key: `none-${i}`, password: 'twelve letters' }, { from: `127.0.1.${i + 1}` }),
      ),
    );
    isOver = true;
    await looking;
    tried('limits');
    expect([...new Set(ends.map((one) => one.problem))]).toEqual(['not-allowed']);
    expect(Math.max(...waiting)).toBeLessThan(5);
  });

  it('that strangers try elsewhere shut nobody out where they are used to sign in', async () => {
    const mail = `busy-${number}@copperlane.example`;
    await somebody();
    const signIn = (password: string, from: string) => post('/sign-in', { mail, password }, { from });
    expect((await signIn(studio.password, '127.0.2.1')).problem).toBe('done');
    const ends = [];
    for (let i = 0; i < 7; i++) ends.push((await signIn('a wrong password', '127.0.2.2')).problem);
    tried('limits');
    expect(ends.at(-1)).toBe('too-many-tries');
    expect((await signIn(studio.password, '127.0.2.2')).problem).toBe('too-many-tries');
    expect((await signIn(studio.password, '127.0.2.1')).problem).toBe('done');
    for (let i = 0; i < 7; i++) ends.push((await signIn('a wrong password', '127.0.2.1')).problem);
    expect(ends.at(-1), 'nor do they try there without end').toBe('too-many-tries');
  });
});

describe('where somebody comes from', () => {
  it.each([
    ['a front that is trusted', '127.0.0.1', '192.0.2.7'],
    ['anybody else', '127.0.3.1', '127.0.3.1'],
  ])('is told by %s', async (_who, from, known) => {
    const mail = `busy-${number}@copperlane.example`;
    const client = await somebody();
    tried('limits');
    const given = { from, 'x-forwarded-for': '192.0.2.7' };
    expect((await post('/sign-in', { mail, password: studio.password }, given)).problem).toBe('done');
    const places = (await client.call('sessionList')).map((one) => one.from);
    expect(places).toContain(known);
  });
});

describe('refusals', () => {
  it('fill no journal: those beyond some are only counted', async () => {
    const client = await somebody('observer');
    const { id } = await client.call('me');
    const refused = 150;
    for (let i = 0; i < refused; i++) {
      tried('limits');
      expect(await refusal(client.call('teamRemove', { params: { name: 'crew' } }))).toBe('not-allowed');
    }
    const [row] = await onRecords(
      studio,
      `SELECT count(*)::int AS count FROM journal_entry WHERE actor = 'person ${id}' AND outcome = 'refused'`,
    );
    expect(Number(row?.count)).toBeGreaterThan(0);
    expect(Number(row?.count)).toBeLessThan(refused);
  });
});

describe('a key against acting twice', () => {
  const given = { body: { name: 'ci', days: 1 }, idempotencyKey: 'a key that nobody else has' };

  it('leaves neither answer, nor request, nor itself in the records', async () => {
    const client = await somebody();
    const first = await client.call('tokenCreate', given);
    expect(await client.call('tokenCreate', given)).toEqual(first);
    tried('limits');
    const rows = await onRecords(studio, 'SELECT key, request, response FROM idempotency');
    const kept = JSON.stringify(rows);
    expect(rows.length).toBeGreaterThan(0);
    for (const secret of [first.value, first.id, given.idempotencyKey]) expect(kept).not.toContain(secret);
    const asked = `tokenCreate ${JSON.stringify([{}, {}, given.body, undefined])}`;
    expect(kept, 'a fast hash is guessed').not.toContain(createHash('sha256').update(asked).digest('hex'));
    expect(await refusal((await somebody()).call('tokenCreate', given)), 'of somebody else').toBe('done');
  });

  it('says so where the service ended meanwhile', async () => {
    const client = await somebody();
    await client.call('tokenCreate', given);
    await onRecords(studio, "UPDATE idempotency SET status = 0, response = '', run = 'another one'");
    const refused = await client.call('tokenCreate', given).catch((error: Error) => error);
    expect(String(refused)).toContain('The service ended while the first request');
  });
});
