import { findStructure } from '../src/address/structure.js';
import {
  type Address,
  LineRewriter,
  materialiseLines,
  type Place,
  parseLocation,
  plain,
  Rewriter,
  shapeConflicts,
  WHOLE_REACH,
  writeLine,
} from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const address = (name: string, url: string, aliases: Record<string, string> = {}): Address => ({
  name,
  ...parseLocation(url),
  aliases: Object.entries(aliases).map(([alias, at]) => ({ name: alias, ...parseLocation(at) })),
});

const live: Place = {
  addresses: [
    address('main', 'https://threadmill.example', { www: 'https://www.threadmill.example' }),
    address('shop', 'http://shop.threadmill.example:8080/de'),
  ],
  roots: [{ name: 'main', path: '/srv/threadmill/live' }],
};
const copy: Place = {
  addresses: [
    address('main', 'http://threadmill--staging.localhost:7400'),
    address('shop', 'http://shop--staging.localhost:7400/de'),
  ],
  roots: [{ name: 'main', path: '/srv/t/staging' }],
};
const bytes = (text: string): string => Buffer.from(text).toString('latin1');
const text = (value: string): string => Buffer.from(value, 'latin1').toString();
const there = (value: string, reach = WHOLE_REACH): string =>
  text(new Rewriter(copy).materialise(new Rewriter(live).canonicalise(bytes(value), reach).value));

const AT = 'http://threadmill--staging.localhost:7400';
const serialised = (inner: string): string => `s:${Buffer.byteLength(inner)}:"${inner}";`;

describe('what a value becomes at another address', () => {
  const cases: [string, string, string][] = [
    ['plain link', 'see https://threadmill.example/a', `see ${AT}/a`],
    ['other scheme where the copy has one scheme', 'http://threadmill.example/a', `${AT}/a`],
    ['alias that the copy lacks', 'https://www.threadmill.example/', `${AT}/`],
    ['no scheme', '"//threadmill.example/a.css"', '"//threadmill--staging.localhost:7400/a.css"'],
    ['explicit default port', 'https://threadmill.example:443/a', `${AT}/a`],
    ['another port is another site', 'https://threadmill.example:8443/a', 'https://threadmill.example:8443/a'],
    ['upper case host', 'https://Threadmill.Example/a', `${AT}/a`],
    [
      'JSON slashes',
      '{"u":"https:\\/\\/threadmill.example\\/a"}',
      '{"u":"http:\\/\\/threadmill--staging.localhost:7400\\/a"}',
    ],
    [
      'percent-encoded',
      'to=https%3A%2F%2Fthreadmill.example%2Fa',
      'to=http%3A%2F%2Fthreadmill--staging.localhost%3A7400%2Fa',
    ],
    [
      'percent-encoded, lower case',
      'to=https%3a%2f%2fthreadmill.example%2fa',
      'to=http%3a%2f%2fthreadmill--staging.localhost%3a7400%2fa',
    ],
    ['end of a sentence', 'Visit https://threadmill.example.', `Visit ${AT}.`],
    ['look-alike suffix', 'https://threadmill.example.org/a', 'https://threadmill.example.org/a'],
    ['look-alike encoded suffix', 'https://threadmill.example%2eorg', 'https://threadmill.example%2eorg'],
    ['look-alike prefix', 'https://my-threadmill.example/a', 'https://my-threadmill.example/a'],
    ['longer word', 'https://threadmill.examples/', 'https://threadmill.examples/'],
    ['non-ASCII continuation', 'https://threadmill.exampleé/', 'https://threadmill.exampleé/'],
    ['host as user name', 'https://threadmill.example@evil.example/', 'https://threadmill.example@evil.example/'],
    [
      'mail address',
      'mail hello@threadmill.example or mailto:a@threadmill.example',
      'mail hello@threadmill.example or mailto:a@threadmill.example',
    ],
    ['bare host stays', 'threadmill.example', 'threadmill.example'],
    ['site under a path', 'http://shop.threadmill.example:8080/de/cart', 'http://shop--staging.localhost:7400/de/cart'],
    [
      'path that only begins alike',
      'http://shop.threadmill.example:8080/dev',
      'http://shop.threadmill.example:8080/dev',
    ],
    ['same host without its port', 'http://shop.threadmill.example/de', 'http://shop.threadmill.example/de'],
    ['root path', '/srv/threadmill/live/media/a.jpg', '/srv/t/staging/media/a.jpg'],
    ['root path only at a boundary', '/srv/threadmill/live2/a', '/srv/threadmill/live2/a'],
    ['root path inside a longer one', '/mnt/srv/threadmill/live/a', '/mnt/srv/threadmill/live/a'],
    ['serialised', serialised('https://threadmill.example/ü'), serialised(`${AT}/ü`)],
    [
      'nested serialised',
      `a:1:{i:0;${serialised(serialised('https://threadmill.example/'))}}`,
      `a:1:{i:0;${serialised(serialised(`${AT}/`))}}`,
    ],
    [
      'serialised in JSON',
      JSON.stringify({ w: serialised('https://threadmill.example/é') }),
      JSON.stringify({ w: serialised(`${AT}/é`) }),
    ],
    [
      'JSON in serialised',
      serialised('{"u":"https:\\/\\/threadmill.example"}'),
      serialised('{"u":"http:\\/\\/threadmill--staging.localhost:7400"}'),
    ],
    [
      'serialised in JSON in JSON',
      JSON.stringify({ a: JSON.stringify({ b: serialised('https://threadmill.example') }) }),
      JSON.stringify({ a: JSON.stringify({ b: serialised(AT) }) }),
    ],
    [
      'serialised with \\u escapes',
      '{"w":"s:24:\\"https://threadmill.exampl\\u0065\\";"}',
      '{"w":"s:24:\\"https://threadmill.exampl\\u0065\\";"}',
    ],
    ['broken serialised stays', 's:99:"https://threadmill.example";', 's:99:"https://threadmill.example";'],
    [
      'broken part inside JSON stays',
      '["s:9:\\"https://threadmill.example\\";","https://threadmill.example"]',
      `["s:9:\\"https://threadmill.example\\";","${AT}"]`,
    ],
    [
      'object with a class',
      `O:4:"Link":1:{s:3:"url";${serialised('https://threadmill.example')}}`,
      `O:4:"Link":1:{s:3:"url";${serialised(AT)}}`,
    ],
    [
      'payload of a class that is serialised itself',
      `C:4:"Link":${`a:1:{i:0;${serialised('https://threadmill.example')}}`.length}:{a:1:{i:0;${serialised('https://threadmill.example')}}}`,
      `C:4:"Link":${`a:1:{i:0;${serialised(AT)}}`.length}:{a:1:{i:0;${serialised(AT)}}}`,
    ],
    [
      // As a database of one byte a character counts, and as it arrives.
      'serialised, counted in characters',
      'a:1:{s:1:"ü";s:32:"https://threadmill.example/größe";}',
      `a:1:{s:1:"ü";s:${AT.length + 6}:"${AT}/größe";}`,
    ],
    ['scheme in capitals', 'HTTPS://threadmill.example/a', `HTTP${AT.slice(4)}/a`],
    ['scheme that begins a sentence', 'Https://Threadmill.example/a', `Http${AT.slice(4)}/a`],
    [
      'scheme in capitals, percent-encoded',
      'HTTPS%3A%2F%2Fthreadmill.example',
      'HTTP%3A%2F%2Fthreadmill--staging.localhost%3A7400',
    ],
    [
      'class payload of its own stays',
      'C:4:"Link":26:{https://threadmill.example}',
      'C:4:"Link":26:{https://threadmill.example}',
    ],
    ['literal marker', 'a ~tsr.u.main.0.o0~ b', 'a ~tsr.u.main.0.o0~ b'],
    ['literal marker in a broken value', 's:8:"~tsr.x";', 's:8:"~tsr.x";'],
  ];
  it.each(cases)('%s', (_name, from, onto) => expect(there(from)).toBe(onto));

  it('rewrites bare hosts where the profile says so', () => {
    const reach = { bareHosts: true, rootPaths: false };
    expect(there('Host threadmill.example, not x.threadmill.example', reach)).toBe(
      'Host threadmill--staging.localhost:7400, not x.threadmill.example',
    );
    expect(there('a@threadmill.example', reach)).toBe('a@threadmill.example');
  });

  it('counts what it rewrote and what it had to leave', () => {
    const result = new Rewriter(live).canonicalise(
      '["s:9:\\"https://threadmill.example\\";","https://threadmill.example"]',
    );
    expect([result.rewritten, result.left]).toEqual([1, 1]);
  });

  it('names what makes two places incompatible', () => {
    expect(shapeConflicts(live, copy)).toEqual([]);
    expect(shapeConflicts(live, { ...copy, addresses: copy.addresses.slice(0, 1) })[0]).toContain('"shop"');
  });
});

describe('the laws', () => {
  const hosts = [
    'threadmill.example',
    'www.threadmill.example',
    'Threadmill.EXAMPLE',
    'shop.threadmill.example',
    'threadmill.example.org',
    'other.example',
  ];
  const piece = fc.oneof(
    {
      weight: 6,
      arbitrary: fc
        .tuple(
          fc.constantFrom('https:', 'http:', '', 'x', 'https%3A', 'ftp:', 'HTTPS:', 'Http:', 'hTtp:', 'HTTP%3A'),
          fc.constantFrom('//', '\\/\\/', '%2F%2F', '%2f%2f', '/', '\\\\\\/\\\\\\/'),
          fc.constantFrom(...hosts),
          fc.constantFrom('', ':443', ':8080', ':80', '%3A443', ':'),
          fc.constantFrom('', '/', '/de', '\\/de', '%2Fde', '/dev', '.', '-', 'é', '@', '%2e', '\\u002d'),
        )
        .map((parts) => parts.join('')),
    },
    {
      weight: 2,
      arbitrary: fc.constantFrom(
        '~tsr.',
        '~tsr.l~',
        '~tsr.b~',
        '~',
        '/srv/threadmill/live',
        '\\/srv\\/threadmill\\/live',
        '/srv/threadmill/live/x',
        '"',
        '\\',
        ' ',
        '%',
        ':',
        '\n',
        'file://',
      ),
    },
    { weight: 1, arbitrary: fc.string() },
  );
  const flat = fc.array(piece, { maxLength: 6 }).map((parts) => parts.join(''));
  const wrap = (value: string, how: number): string => {
    switch (how % 8) {
      case 0:
        return serialised(value);
      case 1:
        return JSON.stringify({ k: value });
      case 2:
        return `a:2:{i:0;${serialised(value)}i:1;b:1;}`;
      case 3:
        return `s:${Buffer.byteLength(value) + 1}:"${value}";`;
      case 4:
        return JSON.stringify([value]).replaceAll('/', '\\/');
      case 5: {
        const payload = `a:1:{i:0;${serialised(value)}}`;
        return `C:1:"A":${Buffer.byteLength(payload)}:{${payload}}`;
      }
      case 6:
        return `a:1:{s:1:"ü";s:${[...value].length}:"${value}";}`;
      default:
        return `O:1:"A":1:{s:1:"p";${serialised(value)}}`;
    }
  };
  const value = fc
    .tuple(flat, fc.array(fc.nat(7), { maxLength: 4 }))
    .map(([inner, how]) => bytes(how.reduce(wrap, inner)));
  const reach = fc.record({ bareHosts: fc.boolean(), rootPaths: fc.boolean() });

  it('gives back every value byte for byte at its own address', () => {
    const here = new Rewriter(live);
    fc.assert(
      fc.property(value, reach, (v, r) => {
        expect(here.materialise(here.canonicalise(v, r).value)).toBe(v);
      }),
      { numRuns: 10_000 },
    );
  });

  it('reads back the same meaning at any other address', () => {
    const places: Place[] = [
      copy,
      live,
      {
        addresses: [address('main', 'https://a.test'), address('shop', 'https://b.test/x/y')],
        roots: [{ name: 'main', path: '/srv/r' }],
      },
      {
        addresses: [address('main', 'http://a.test/base', { www: 'https://w.test' }), address('shop', 'http://b.test')],
        roots: [{ name: 'main', path: '/deep/er/root' }],
      },
    ];
    const here = new Rewriter(live);
    const rewriters = places.map((place) => new Rewriter(place));
    fc.assert(
      fc.property(value, reach, fc.constantFrom(...rewriters), (v, r, at) => {
        const canonical = here.canonicalise(v, r).value;
        expect(plain(at.canonicalise(at.materialise(canonical), r).value)).toBe(plain(canonical));
      }),
      { numRuns: 10_000 },
    );
  });

  it('treats whole lines as it treats each of their values', () => {
    const columns = ['a', 'b', 'c'].map((name) => ({
      name,
      rewrite: true,
      reach: { bareHosts: false, rootPaths: false },
    }));
    const row = fc.array(fc.option(value, { freq: 8 }), { minLength: 3, maxLength: 3 });
    const [here, there] = [new Rewriter(live), new Rewriter(copy)];
    fc.assert(
      fc.property(fc.array(row, { minLength: 1, maxLength: 6 }), fc.boolean(), (rows, plainOnly) => {
        const treated = columns.map((column, i) => (plainOnly || i > 0 ? column : { ...column, rewrite: false }));
        const lines = rows.map((one) => `${writeLine(one)}\n`).join('');
        const canonical = new LineRewriter(here, treated).canonicalise(lines);
        const expected = rows.map((one) =>
          one.map((v, i) =>
            v === null
              ? null
              : treated[i]?.rewrite
                ? here.canonicalise(v, { bareHosts: false, rootPaths: false }).value
                : v.includes('~tsr.')
                  ? `~tsr.b~${v}`
                  : v,
          ),
        );
        expect(canonical).toBe(expected.map((one) => `${writeLine(one)}\n`).join(''));
        expect(materialiseLines(canonical, there)).toBe(
          expected.map((one) => `${writeLine(one.map((v) => (v === null ? null : there.materialise(v))))}\n`).join(''),
        );
        expect(materialiseLines(canonical, here)).toBe(lines);
        expect(new LineRewriter(here, treated).rewriteTo(lines, there)).toBe(materialiseLines(canonical, there));
      }),
      { numRuns: 4_000 },
    );
  });

  it('never changes a value without an address', () => {
    fc.assert(
      fc.property(fc.string().map(bytes), (v) => {
        expect(new Rewriter(live).canonicalise(v).value).toBe(v.replaceAll('~tsr.', '~tsr.l~'));
      }),
    );
  });
});

it('looks at few of the addresses of a value for each string in it, however many there are', () => {
  const addresses = 2000;
  const value = JSON.stringify(Array.from({ length: addresses }, (_one, i) => `s:7:"${1_000_000 + i}";`));
  const edits = [...value.matchAll(/\d{7}/g)].map((found) => ({ start: found.index, end: found.index + 7, text: 'x' }));
  let looks = 0;
  const counted = new Proxy(edits, {
    get: (list, name) => {
      looks++;
      return Reflect.get(list, name);
    },
  });
  expect(findStructure(value, counted)).toEqual(findStructure(value, edits));
  expect(findStructure(value, edits).counted).toHaveLength(addresses);
  expect(looks).toBeLessThan(addresses * 100);
});
