import { randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { type AddressInfo, connect, createServer, type Server, type Socket } from 'node:net';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { GATE, type GatewayAlone, sendTo, startGateway } from '../support/gateway-alone.js';
import { tried } from './tried.js';

const LIVE = 'threadmill.example';
/** Another live site, whose web server is sound throughout. */
const SOUND = 'saltmarsh.example';
const COPY = 'threadmill--staging.example';
const SECRET = 'what only colleagues see';

let gateway: GatewayAlone;
let folder: string;
let port: number;
/** Of somebody who may pass the copy's gate. */
let cookie: string;
/** A web server that answers whatever a test says, byte for byte. */
let hostile: Server;
let answer: (socket: Socket, request: string) => void;
let sound: Server;
const open = new Set<Socket>();

const listen = async (server: Server): Promise<number> => {
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  return (server.address() as AddressInfo).port;
};
/** A server of raw connections, which none of them ends. */
const rawServer = (serve: (socket: Socket, request: string) => void): Server =>
  createServer((socket) => {
    open.add(socket);
    socket.on('close', () => open.delete(socket));
    socket.on('error', () => socket.destroy());
    let text = '';
    socket.on('data', (data: Buffer) => {
      text += data.toString('latin1');
      if (!text.includes('\r\n\r\n')) return;
      serve(socket, text);
      text = '';
    });
  });
const page = (words: string): string =>
  `HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: ${words.length}\r\n\r\n${words}`;

beforeAll(async () => {
  hostile = rawServer((socket, request) => answer(socket, request));
  sound = rawServer((socket) => socket.write(page('<h1>Ferries</h1>')));
  const [hostilePort, soundPort] = [await listen(hostile), await listen(sound)];
  gateway = await startGateway([
    { host: LIVE, kind: 'live', port: hostilePort },
    { host: SOUND, kind: 'live', port: soundPort },
    { host: COPY, kind: 'staging', port: hostilePort },
  ]);
  ({ folder, port } = gateway);
  await soundAnswers();
  await copyAnswers();
  const form = new URLSearchParams(GATE).toString();
  const login = await send(
    `POST /.tessarion/gate HTTP/1.1\r\nHost: ${COPY}\r\nContent-Length: ${form.length}\r\n\r\n${form}`,
    2000,
  );
  cookie = /set-cookie: ([^;]+)/i.exec(login)?.[1] ?? '';
  expect(cookie).not.toBe('');
});
afterAll(async () => {
  await gateway.stop();
  for (const socket of open) socket.destroy();
  hostile.close();
  sound.close();
});
beforeEach(() => {
  answer = (socket) => socket.write(page(`<body>${SECRET}</body>`));
});

const send = (bytes: string | Buffer, silenceMs?: number): Promise<string> => sendTo(port, bytes, silenceMs);
const get = (host: string, path = '/', more = ''): Promise<string> =>
  send(`GET ${path} HTTP/1.1\r\nHost: ${host}\r\nConnection: close\r\n${more}\r\n`, 2000);

/** Live goes on, as its visitors see it. */
async function soundAnswers(): Promise<void> {
  const since = performance.now();
  for (;;) {
    if ((await get(SOUND)).includes('Ferries')) return;
    if (performance.now() - since > 10_000) throw new Error('live does not answer');
    await new Promise((done) => setTimeout(done, 10));
  }
}

/** The copy is there, behind its gate. */
const copyAnswers = (): Promise<unknown> =>
  vi.waitUntil(async () => (await get(COPY)).includes('working copy'), { timeout: 10_000 });

/** Processes of the gateway by the part that they play. */
async function pidOf(part: 'front' | 'copies'): Promise<number> {
  for (const name of await fs.readdir('/proc')) {
    const args = (await fs.readFile(`/proc/${name}/cmdline`, 'utf8').catch(() => '')).split('\0');
    if (args.includes(part) && args.includes(folder)) return Number(name);
  }
  return 0;
}
const memoryOf = async (pid: number): Promise<number> => {
  const status = await fs.readFile(`/proc/${pid}/status`, 'utf8');
  return Number(/^VmHWM:\s+(\d+)/m.exec(status)?.[1]) / 1024;
};

/** 90 to 130 are measured, shared pages among them; without back-pressure it is what the site sends. */
const MOST_MEGABYTES = 250;

const HEADERS = 'Content-Type: text/html\r\n';
const ANSWERS: readonly (readonly [string, string | Buffer])[] = [
  ...['000', '001', '099', '100', '101', '102', '103', '150', '199', '600', '999', '1000', '-1', '20', ''].map(
    (status) => [`the status ${status}`, `HTTP/1.1 ${status} So\r\n${HEADERS}Content-Length: 2\r\n\r\nhi`] as const,
  ),
  ['nothing', ''],
  ['no head', 'hello\r\n\r\n'],
  ['another protocol', 'SSH-2.0-OpenSSH_9.2\r\n'],
  ['a head that never ends', `HTTP/1.1 200 OK\r\n${'X-A: b\r\n'.repeat(5000)}`],
  ['a header of a megabyte', `HTTP/1.1 200 OK\r\nX-A: ${'b'.repeat(1_000_000)}\r\n\r\n`],
  ['a header without a name', 'HTTP/1.1 200 OK\r\n: b\r\n\r\nhi'],
  ['a header with NUL', 'HTTP/1.1 200 OK\r\nX-A: a\0b\r\n\r\nhi'],
  ['a header of raw bytes', 'HTTP/1.1 200 OK\r\nX-A: \x80\xff\r\nContent-Length: 2\r\n\r\nhi'],
  ['a reason of raw bytes', `HTTP/1.1 200 \xff\xfe\r\n${HEADERS}Content-Length: 2\r\n\r\nhi`],
  ['two lengths', `HTTP/1.1 200 OK\r\n${HEADERS}Content-Length: 2\r\nContent-Length: 20\r\n\r\nhi`],
  [
    'a length and chunks',
    `HTTP/1.1 200 OK\r\n${HEADERS}Content-Length: 2\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nhi`,
  ],
  ['less than it says', `HTTP/1.1 200 OK\r\n${HEADERS}Content-Length: 200\r\n\r\nhi`],
  ['more than it says', `HTTP/1.1 200 OK\r\n${HEADERS}Content-Length: 2\r\n\r\n${'hi'.repeat(5000)}`],
  ['chunks that are none', `HTTP/1.1 200 OK\r\n${HEADERS}Transfer-Encoding: chunked\r\n\r\nzz\r\nhi`],
  ['a chunk without end', `HTTP/1.1 200 OK\r\n${HEADERS}Transfer-Encoding: chunked\r\n\r\nffffff\r\nhi`],
  ['packed, and it is not', `HTTP/1.1 200 OK\r\n${HEADERS}Content-Encoding: gzip\r\nContent-Length: 2\r\n\r\nhi`],
  [
    'packed, and cut off',
    Buffer.concat([
      Buffer.from(`HTTP/1.1 200 OK\r\n${HEADERS}Content-Encoding: gzip\r\nConnection: close\r\n\r\n`),
      gzipSync(randomBytes(5000)).subarray(0, 2000),
    ]),
  ],
  ['an unknown packing', `HTTP/1.1 200 OK\r\n${HEADERS}Content-Encoding: zip, x\r\nContent-Length: 2\r\n\r\nhi`],
  ['a body with 304', `HTTP/1.1 304 No\r\n${HEADERS}Content-Length: 2\r\n\r\nhi`],
  ['a hundred heads before it', `${'HTTP/1.1 100 Continue\r\n\r\n'.repeat(100)}${page('hi')}`],
  ['two answers', page('hi') + page('there')],
  ['HTTP/2', 'PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n'],
  ['another version', 'HTTP/9.9 200 OK\r\n\r\n'],
  ['an upgrade', 'HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: Upgrade\r\n\r\nhello'],
];

describe('a web server that answers wrongly ends nothing', () => {
  const WAYS: readonly (readonly [string, (host: string) => string])[] = [
    ['asked for a page', (host) => `GET / HTTP/1.1\r\nHost: ${host}\r\n\r\n`],
    ['sent a form', (host) => `POST / HTTP/1.1\r\nHost: ${host}\r\nContent-Length: 3\r\n\r\na=b`],
    ['asked to upgrade', (host) => `GET / HTTP/1.1\r\nHost: ${host}\r\nUpgrade: x\r\nConnection: Upgrade\r\n\r\n`],
  ];

  it.each(WAYS)('%s', async (_way, request) => {
    const [front, copies] = [await pidOf('front'), await pidOf('copies')];
    const inside = (text: string): string => text.replace('\r\n\r\n', `\r\nCookie: ${cookie}\r\n\r\n`);
    for (const [name, bytes] of ANSWERS)
      for (const ending of ['end', 'reset', 'stay'] as const) {
        answer = (socket) => {
          socket.write(typeof bytes === 'string' ? Buffer.from(bytes, 'latin1') : bytes);
          if (ending === 'end') socket.end();
          if (ending === 'reset') setTimeout(() => socket.resetAndDestroy(), 5);
        };
        await Promise.all([send(request(LIVE), 60), send(inside(request(COPY)), 60)]);
        tried('hostile web server');
        await soundAnswers().catch(() => expect.fail(`${name}, ${ending}: live is down`));
      }
    expect([await pidOf('front'), await pidOf('copies')], 'neither process has died').toEqual([front, copies]);
  });
});

describe('a visitor who does not keep to the rules', () => {
  const REFUSED: readonly (readonly [string, string])[] = [
    ['a copy’s address in the target', `GET http://${COPY}/ HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
    [
      'a copy’s address in the target, in capitals',
      `GET HTTP://${COPY.toUpperCase()}/ HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`,
    ],
    ['a user before the address', `GET http://${LIVE}@${COPY}/ HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
    ['a copy’s address with a port', `GET http://${COPY}:80/ HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
    ['no path', `GET ${COPY} HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
    ['an asterisk', `OPTIONS * HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
    ['two hosts', `GET / HTTP/1.1\r\nHost: ${LIVE}\r\nHost: ${COPY}\r\n\r\n`],
    ['two hosts in one', `GET / HTTP/1.1\r\nHost: ${LIVE}, ${COPY}\r\n\r\n`],
    ['no host', 'GET / HTTP/1.1\r\n\r\n'],
    ['a host with a path', `GET / HTTP/1.1\r\nHost: ${LIVE}/${COPY}\r\n\r\n`],
    ['a tunnel', `CONNECT ${COPY}:80 HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
    ['lengths that differ', `POST / HTTP/1.1\r\nHost: ${LIVE}\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\nabcd`],
    [
      'a length and chunks',
      `POST / HTTP/1.1\r\nHost: ${LIVE}\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET / HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`,
    ],
    ['chunks in an odd spelling', `POST / HTTP/1.1\r\nHost: ${LIVE}\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\n`],
    ['a folded header', `GET / HTTP/1.1\r\nHost: ${LIVE}\r\nX-A: a\r\n b: c\r\n\r\n`],
    ['a blank before the colon', `GET / HTTP/1.1\r\nHost : ${LIVE}\r\n\r\n`],
    ['a bare line feed', `GET / HTTP/1.1\nHost: ${COPY}\n\n`],
    ['a NUL in the path', `GET /\0 HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`],
  ];

  it.each(REFUSED)('is not shown the copy, nor heard by it: %s', async (_name, bytes) => {
    const heard: string[] = [];
    answer = (socket, request) => {
      heard.push(request);
      socket.write(page(/host: threadmill--staging/i.test(request) || request.includes(COPY) ? SECRET : 'public'));
    };
    expect(await send(bytes)).not.toContain(SECRET);
    for (const request of heard) {
      expect(request).not.toContain(COPY);
      expect(request).toMatch(/^[A-Z]+ \/\S* HTTP\/1\.1\r\n/);
    }
    tried('requests');
    await soundAnswers();
  });

  it('cannot say who they are, nor speak to the web server beside their request', async () => {
    const heard: string[] = [];
    answer = (socket, request) => {
      heard.push(request.toLowerCase());
      socket.write(page('public'));
    };
    const claims = [
      'X-Forwarded-For: 6.6.6.6',
      'X_Forwarded_For: 6.6.6.6',
      'x-forwarded-host: 6.6.6.6',
      'X-Forwarded-Proto: 6.6.6.6',
      'X-Forwarded-Anything: 6.6.6.6',
      'Forwarded: for=6.6.6.6',
      'X-Real-IP: 6.6.6.6',
      'X-Client-IP: 6.6.6.6',
      'True-Client-IP: 6.6.6.6',
      'Proxy: http://6.6.6.6',
      'X-Tessarion-Passed: 6.6.6.6',
      'Proxy-Authorization: 6.6.6.6',
      'TE: 6.6.6.6',
      'Connection: close, X-Forwarded-For, Host',
    ];
    for (const claim of claims) {
      await send(`GET / HTTP/1.1\r\nHost: ${LIVE}\r\n${claim}\r\n\r\n`, 80);
      tried('requests');
    }
    expect(heard.length).toBe(claims.length);
    for (const request of heard) {
      expect(request).not.toContain('6.6.6.6');
      expect(request).toContain(`\r\nhost: ${LIVE}\r\n`);
      expect(request).toContain('\r\nx-forwarded-for: 127.0.0.1\r\n');
      expect(request).toContain('\r\nx-forwarded-proto: http\r\n');
    }
  });

  it('ends nothing by leaving at any moment', async () => {
    const front = await pidOf('front');
    answer = (socket) => {
      socket.write(`HTTP/1.1 200 OK\r\n${HEADERS}Content-Length: 500000\r\n\r\n`);
      socket.write('x'.repeat(400_000));
    };
    const requests = [
      `GET / HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`,
      `GET / HTTP/1.1\r\nHost: ${LIVE}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n`,
      `GET / HTTP/1.1\r\nHost: ${COPY}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n`,
      `POST / HTTP/1.1\r\nHost: ${LIVE}\r\nContent-Length: 1000\r\n\r\nabc`,
      `POST /.tessarion/gate HTTP/1.1\r\nHost: ${COPY}\r\nContent-Length: 1000\r\n\r\nabc`,
      `GET / HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`,
      'GET / HT',
      '',
    ];
    for (const request of requests)
      for (let delay = 0; delay < 12; delay += 1) {
        await new Promise<void>((done) => {
          const socket = connect(port, '127.0.0.1');
          socket.on('error', () => undefined);
          socket.on('close', () => done());
          socket.write(request);
          setTimeout(() => socket.resetAndDestroy(), delay);
        });
        tried('requests');
      }
    await soundAnswers();
    expect(await pidOf('front')).toBe(front);
  });
});

describe('however much comes', () => {
  it('is passed at the pace of who reads it, and held nowhere', async () => {
    const MEGABYTE = Buffer.alloc(1024 * 1024, 'x');
    answer = (socket) => {
      socket.write(`HTTP/1.1 200 OK\r\n${HEADERS}Connection: close\r\n\r\n`);
      let left = 300;
      const more = (): void => {
        while (left-- > 0 && socket.writable) if (!socket.write(MEGABYTE)) return void socket.once('drain', more);
        socket.end();
      };
      more();
    };
    const slow = Array.from({ length: 8 }, () => {
      const socket = connect(port, '127.0.0.1');
      socket.on('error', () => undefined);
      socket.write(`GET / HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`);
      socket.pause();
      tried('memory');
      return socket;
    });
    await new Promise((done) => setTimeout(done, 1500));
    await soundAnswers();
    for (const socket of slow) socket.destroy();
    expect(await memoryOf(await pidOf('front'))).toBeLessThan(MOST_MEGABYTES);
  });
});

/** For how long both sides are fuzzed. */
const FUZZ_SECONDS = Number(process.env.TESSARION_FUZZ_SECONDS ?? 8);

describe('whatever both sides send', () => {
  it(`lets live go on, at the same memory, for ${FUZZ_SECONDS} s`, {
    timeout: (FUZZ_SECONDS + 60) * 1000,
  }, async () => {
    const [front, copies] = [await pidOf('front'), await pidOf('copies')];
    const any = (most: number): number => Math.floor(Math.random() * most);
    const one = <T>(list: readonly T[]): T => list[any(list.length)] as T;
    /** Cuts out, doubles, and puts in. */
    const fuzzed = (bytes: Buffer): Buffer => {
      let now = bytes;
      for (let times = any(4); times > 0; times--) {
        const at = any(now.length + 1);
        const [before, after] = [now.subarray(0, at), now.subarray(at)];
        now = one([
          () => Buffer.concat([before, randomBytes(1 + any(6)), after]),
          () => Buffer.concat([before, after.subarray(any(20))]),
          () =>
            Buffer.concat([
              before,
              Buffer.from(one(['\r\n', '\0', ': ', 'Host: x\r\n', 'chunked', '9999999999'])),
              after,
            ]),
          () => Buffer.concat([now, before]),
        ])();
      }
      return now;
    };
    const seeds = [
      `GET / HTTP/1.1\r\nHost: ${LIVE}\r\n\r\n`,
      `GET /x?y HTTP/1.1\r\nHost: ${COPY}\r\nCookie: tsr_gate=1.2.3.4\r\n\r\n`,
      `POST /a HTTP/1.1\r\nHost: ${LIVE}\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n`,
      `POST /.tessarion/gate HTTP/1.1\r\nHost: ${COPY}\r\nContent-Length: 9\r\n\r\nuser=a&b=`,
      `GET /.tessarion/enter?ticket=1.2.3 HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`,
      `GET / HTTP/1.1\r\nHost: ${LIVE}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n`,
    ].map((text) => Buffer.from(text));
    answer = (socket) => {
      const [, bytes] = one(ANSWERS);
      socket.write(fuzzed(Buffer.from(bytes as string, 'latin1')));
      const ending = any(3);
      if (ending === 0) socket.end();
      else if (ending === 1) socket.resetAndDestroy();
    };
    const until = performance.now() + FUZZ_SECONDS * 1000;
    const fuzz = async (): Promise<void> => {
      while (performance.now() < until) {
        await send(fuzzed(one(seeds)), 20 + any(60));
        tried('fuzzed');
      }
    };
    const watch = async (): Promise<void> => {
      while (performance.now() < until) {
        await soundAnswers();
        await new Promise((done) => setTimeout(done, 100));
      }
    };
    await Promise.all([watch(), ...Array.from({ length: 12 }, fuzz)]);
    expect([await pidOf('front'), await pidOf('copies')], 'neither process has died').toEqual([front, copies]);
    const most = await Promise.all([front, copies].map(memoryOf));
    console.info(
      `After ${FUZZ_SECONDS} s of fuzzing the gateway's processes held ${most.map((one) => one.toFixed(0)).join(' and ')} MB at most.`,
    );
    for (const one of most) expect(one).toBeLessThan(MOST_MEGABYTES);
  });
});

describe('the gateway that is killed', () => {
  it.each(['front', 'copies'] as const)('comes back: %s', async (part) => {
    const times: number[] = [];
    for (let round = 0; round < 3; round++) {
      const pid = await pidOf(part);
      process.kill(pid, 'SIGKILL');
      const at = performance.now();
      tried('deaths');
      // Within a second on a machine that is at rest; a test says that it comes back, not how soon.
      await soundAnswers();
      await copyAnswers();
      times.push(Math.round(performance.now() - at));
      expect(await pidOf(part)).not.toBe(pid);
    }
    console.info(`Killed, the gateway's ${part} was back after ${times.join(', ')} ms.`);
  });
});
