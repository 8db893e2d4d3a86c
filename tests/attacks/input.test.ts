import { request } from 'node:http';
import { text } from 'node:stream/consumers';
import { type Endpoint, endpoints } from '@tessarion/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { type Studio, startStudio } from '../support/studio.js';
import { tried } from './tried.js';

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

const LONE = '\ud800';
/** Words that are none of anybody's: as a path, a question or a text. */
const WORDS = [
  '',
  ' ',
  '\0',
  'a\0b',
  LONE,
  '😀'.repeat(300),
  'x'.repeat(5000),
  '../../etc/passwd',
  "' OR 1=1 --",
  '-1',
  '1e309',
  'NaN',
  '9'.repeat(40),
  '2026-13-45T99:99:99Z',
  '2026-01-01T00:00:00Z/x',
  'Zm9v',
  '%',
  '%00',
  '%ff',
  'threadmill/staging',
  'client:\0',
  '__proto__',
  'constructor',
] as const;

const VALUES: readonly unknown[] = [
  null,
  true,
  -1,
  Number.MAX_VALUE,
  2 ** 53,
  [],
  [null],
  {},
  { __proto__: null },
  [[[[]]]],
];

/** Acts that would take the ground from under the others. */
const NOT_TRIED = ['signOut', 'calendarEnd', 'noticesSeen'];

interface Answer {
  readonly status: number;
  readonly body: string;
}

function ask(method: string, path: string, body?: string, headers: Record<string, string> = {}): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const { hostname, port } = new URL(studio.url);
    const asked = request(
      {
        hostname,
        port,
        method,
        path,
        headers: {
          ...(headers.origin === undefined ? { authorization: `Bearer ${studio.token}` } : {}),
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
          ...headers,
        },
      },
      async (response) => resolve({ status: response.statusCode ?? 0, body: (await text(response)).slice(0, 500) }),
    );
    asked.on('error', reject);
    asked.end(body);
  });
}

const keysOf = (type: unknown): string[] =>
  Object.keys((type as { shape?: Record<string, unknown> } | undefined)?.shape ?? {});

/** Calls of an endpoint with something in it that nobody who means well would send. */
function* calls(definition: Endpoint): Generator<readonly [path: string, body: string | undefined]> {
  const { path, query, body } = definition;
  const filled = (word: string): string => path.replace(/:\w+/g, () => encodeURIComponent(toValid(word)));
  const plain = filled('threadmill');
  const hasBody = keysOf(body).length > 0;
  if (path.includes(':')) for (const word of WORDS) yield [filled(word), hasBody ? '{}' : undefined];
  for (const key of keysOf(query))
    for (const word of WORDS)
      yield [`${plain}?${key}=${encodeURIComponent(toValid(word))}`, hasBody ? '{}' : undefined];
  if (!hasBody) return;
  for (const whole of ['', 'null', '[]', '"x"', '0', '{', '{"__proto__":{"isAdmin":true}}', '['.repeat(20_000), '{}'])
    yield [plain, whole];
  for (const value of [...WORDS, ...VALUES])
    yield [plain, JSON.stringify(Object.fromEntries(keysOf(body).map((key) => [key, value])))];
}

/** A lone half of a pair cannot stand in an address. */
const toValid = (word: string): string => (word === LONE ? '\ufffd' : word);

describe('whatever is sent', () => {
  const named = Object.entries(endpoints).filter(([name]) => !NOT_TRIED.includes(name));

  it.each(named)('%s answers without falling over', async (_name, definition) => {
    const all = [...calls(definition as Endpoint)];
    for (let i = 0; i < all.length; i += 8)
      await Promise.all(
        all.slice(i, i + 8).map(async ([path, body]) => {
          tried('input');
          const answer = await ask(definition.method, `/api/v1${path}`, body, { 'if-match': '"x"' });
          expect([path, body?.slice(0, 200), answer.body, answer.status < 500]).toEqual([
            path,
            body?.slice(0, 200),
            answer.body,
            true,
          ]);
        }),
      );
  });

  it.each([
    'http://x/',
    '//',
    '//x',
    '/%',
    '/%00',
    '/%ff%fe',
    '/..%2f..%2fetc/passwd',
    '/\\..\\..\\etc\\passwd',
    '/assets/',
    '/assets/..%2f..%2fpackage.json',
    '/assets/%2e%2e/%2e%2e/package.json',
    '/index.html%00.js',
    `/?${'a'.repeat(6000)}`,
    '/api/v1',
    '/api/v1/',
    '/api/v1//sites',
    '/api/v1/sites/',
    '/api/v1/%73ites',
    '/api/v1/events?x=%00',
    '/calendar.ics?key=%00',
    '/api/v1/sign-in/provider/return?state=%00',
    '/.env',
    '/.git/config',
  ])('%s of the console is a page, or refused', async (path) => {
    for (const method of ['GET', 'HEAD', 'POST', 'PUT', 'OPTIONS', 'DELETE']) {
      if (path.startsWith('/api/v1/events') && method === 'GET') continue;
      tried('input');
      const answer = await ask(method, path);
      expect([method, answer.status < 500]).toEqual([method, true]);
      expect(answer.body).not.toMatch(/root:|"workspaces"|\[core\]/);
    }
  });

  it.each([
    ['an origin that is none', { origin: 'null' }],
    ['another origin', { origin: 'https://elsewhere.example' }],
    ['its own origin by another scheme', { origin: 'SCHEME' }],
    ['an origin with a user', { origin: 'http://x@HOST' }],
    ['an origin without a scheme', { origin: '//HOST' }],
  ])('a page of %s does nothing in anybody’s name', async (_what, { origin }) => {
    const { host, protocol } = new URL(studio.url);
    const other = protocol === 'http:' ? 'https:' : 'http:';
    const given = origin.replace('SCHEME', `${other}//${host}`).replace('HOST', host);
    const signedIn = await ask(
      'POST',
      '/api/v1/sign-in',
      JSON.stringify({ mail: 'maren.brask@copperlane.example', password: studio.password }),
      { origin: given },
    );
    tried('input');
    expect([signedIn.status, signedIn.body.includes('another site')]).toEqual([403, true]);
  });
});
