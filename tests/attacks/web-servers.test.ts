import { type ChildProcess, spawn } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { freePort } from '@tessarion/cluster';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { GATE, type GatewayAlone, sendTo, startGateway } from '../support/gateway-alone.js';
import { tried } from './tried.js';

const LIVE = 'threadmill.example';
const COPY = 'threadmill--staging.example';
const PUBLIC = 'Cloth that lasts';
const SECRET = 'what only colleagues see';

/** Web servers as hosts run them, one for live and its copies. */
const SERVERS: Record<string, { readonly program: string; args(config: string): string[]; config(at: At): string }> = {
  nginx: {
    program: resolve('node_modules/.programs/usr/sbin/nginx'),
    args: (config) => ['-c', config, '-e', 'stderr'],
    config: ({ folder, port }) => `
daemon off; master_process off; pid ${folder}/nginx.pid; error_log stderr crit;
events { worker_connections 200; }
http {
  access_log off; merge_slashes on; underscores_in_headers on; ignore_invalid_headers off;
  ${['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map((one) => `${one}_temp_path ${folder}/${one};`).join(' ')}
  server { listen 127.0.0.1:${port} default_server; server_name ${LIVE}; root ${folder}/live; error_page 405 =200 $uri; }
  server { listen 127.0.0.1:${port}; server_name ${COPY}; root ${folder}/copy; error_page 405 =200 $uri; }
}`,
  },
  Apache: {
    program: '/usr/sbin/apache2',
    args: (config) => ['-f', config, '-DFOREGROUND'],
    config: ({ folder, port }) => `
ServerRoot ${folder}
Listen 127.0.0.1:${port}
ServerName ${LIVE}
PidFile ${folder}/apache.pid
DefaultRuntimeDir ${folder}
Mutex pthread
ErrorLog ${folder}/apache.log
${['mpm_event', 'authz_core', 'dir', 'http2'].map((one) => `LoadModule ${one}_module /usr/lib/apache2/modules/mod_${one}.so`).join('\n')}
<IfModule !unixd_module>
LoadModule unixd_module /usr/lib/apache2/modules/mod_unixd.so
</IfModule>
${process.getuid?.() === 0 ? 'User nobody\nGroup nogroup' : ''}
StartServers 1
MinSpareThreads 4
ThreadsPerChild 64
MaxRequestWorkers 64
Protocols h2c http/1.1
HttpProtocolOptions Unsafe
DirectoryIndex index.html
<Directory />
Require all granted
</Directory>
<VirtualHost *:${port}>
ServerName ${LIVE}
DocumentRoot ${folder}/live
</VirtualHost>
<VirtualHost *:${port}>
ServerName ${COPY}
DocumentRoot ${folder}/copy
</VirtualHost>`,
  },
};

interface At {
  readonly folder: string;
  readonly port: number;
}

/** Ways in which a stranger asks for a copy by the name of live, or past its gate. */
const requests = (): readonly (readonly [string, string])[] => {
  const line = (target: string, more = '', method = 'GET', version = 'HTTP/1.1'): string =>
    `${method} ${target} ${version}\r\nHost: ${LIVE}\r\n${more}\r\n`;
  const after = (head: string, body: string): string => `${head}${body}GET / HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`;
  const targets = [
    `http://${COPY}/`,
    `http://${COPY}`,
    `HTTP://${COPY.toUpperCase()}/`,
    `https://${COPY}/`,
    `http://${COPY}:80/`,
    `http://${COPY}./`,
    `http://${LIVE}@${COPY}/`,
    `http://${COPY}@${LIVE}/`,
    `http://${COPY}#@${LIVE}/`,
    `http://${COPY}?@${LIVE}/`,
    `http://${COPY}\\@${LIVE}/`,
    `http:///${COPY}/`,
    `http:/${COPY}/`,
    `http:${COPY}/`,
    `//${COPY}/`,
    `///${COPY}/`,
    `\\\\${COPY}/`,
    `/\\${COPY}/`,
    `${COPY}/`,
    `${COPY}:80`,
    `http://${LIVE}/http://${COPY}/`,
    `/http://${COPY}/`,
    `/../copy/index.html`,
    `/%2e%2e/copy/index.html`,
    `/..%2fcopy/index.html`,
    `/.%00./copy/index.html`,
    `/%5c..%5ccopy/index.html`,
    `/ http://${COPY}/`,
    `/\thttp://${COPY}/`,
    `http://[${COPY}]/`,
    `http://${encodeURIComponent(COPY)}/`,
    `http://threadmill%2d%2dstaging.example/`,
    `ftp://${COPY}/`,
    `*`,
    '',
  ];
  const claims = [
    `Host: ${COPY}`,
    `host: ${COPY}`,
    ` Host: ${COPY}`,
    `Host : ${COPY}`,
    `Host\t: ${COPY}`,
    `\0Host: ${COPY}`,
    `X-Forwarded-Host: ${COPY}`,
    `X-Host: ${COPY}`,
    `X-Original-Host: ${COPY}`,
    `Forwarded: host=${COPY}`,
    `X-Original-URL: http://${COPY}/`,
    `X-Rewrite-URL: http://${COPY}/`,
    `:authority: ${COPY}`,
    `X-A: b\r\n Host: ${COPY}`,
    `X-A: b\rHost: ${COPY}`,
    `X-A: b\nHost: ${COPY}`,
    `Connection: Host\r\nHost: ${COPY}`,
    `Connection: close, Host`,
    `Upgrade: h2c\r\nConnection: Upgrade, HTTP2-Settings\r\nHTTP2-Settings: AAMAAABkAAQAoAAAAAIAAAAA`,
    `Upgrade: TLS/1.0\r\nConnection: Upgrade`,
    `Expect: 100-continue\r\nContent-Length: 0`,
    `Trailer: Host\r\nTransfer-Encoding: chunked`,
  ];
  return [
    ...targets.map((target) => [`the target ${JSON.stringify(target)}`, line(target)] as const),
    ...targets.slice(0, 8).map((target) => [`HTTP/1.0, ${target}`, line(target, '', 'GET', 'HTTP/1.0')] as const),
    ...['CONNECT', 'TRACE', 'OPTIONS', 'HEAD', 'POST', 'PROPFIND', 'get'].map(
      (method) => [`${method} by address`, line(`http://${COPY}/`, 'Content-Length: 0\r\n', method)] as const,
    ),
    ...claims.map((claim) => [`the header ${JSON.stringify(claim)}`, line('/', `${claim}\r\n`)] as const),
    ['no name, HTTP/1.0', 'GET / HTTP/1.0\r\n\r\n'],
    ['no name', 'GET / HTTP/1.1\r\n\r\n'],
    ['HTTP/0.9', 'GET /\r\n'],
    ['HTTP/0.9 by address', `GET http://${COPY}/\r\n`],
    ['HTTP/2 at once', 'PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\0\0\0\x04\0\0\0\0\0'],
    ['the copy itself', `GET / HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`],
    ['the copy in capitals', `GET / HTTP/1.1\r\nHost: ${COPY.toUpperCase()}\r\n\r\n`],
    ['the copy with a dot', `GET / HTTP/1.1\r\nHost: ${COPY}.\r\n\r\n`],
    ['the copy with a port', `GET / HTTP/1.1\r\nHost: ${COPY}:80\r\n\r\n`],
    ['the copy after a comma', `GET / HTTP/1.1\r\nHost: ${LIVE},${COPY}\r\n\r\n`],
    ['the copy after a space', `GET / HTTP/1.1\r\nHost: ${LIVE} ${COPY}\r\n\r\n`],
    ['a login that is none', `GET / HTTP/1.1\r\nHost: ${COPY}\r\nAuthorization: Basic Z3Vlc3Q6eA==\r\n\r\n`],
    ['a pass that is none', `GET / HTTP/1.1\r\nHost: ${COPY}\r\nCookie: tessarion_pass=x\r\n\r\n`],
    ['past the gate’s own page', `GET /.tessarion/../ HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`],
    ['past the gate’s own page, written otherwise', `GET /.tessarion/%2e%2e/ HTTP/1.1\r\nHost: ${COPY}\r\n\r\n`],
    ...[
      ['a length twice', 'Content-Length: 0\r\nContent-Length: 3\r\n', 'abc'],
      ['a length with a sign', 'Content-Length: +0\r\n', ''],
      ['a length in sixteens', 'Content-Length: 0x3\r\n', 'abc'],
      ['a length below none', 'Content-Length: -1\r\n', ''],
      ['a length and a list', 'Content-Length: 0, 0\r\n', ''],
      ['a length and chunks', 'Content-Length: 5\r\nTransfer-Encoding: chunked\r\n', '0\r\n\r\n'],
      ['chunks and a length', 'Transfer-Encoding: chunked\r\nContent-Length: 5\r\n', '0\r\n\r\n'],
      ['chunks twice', 'Transfer-Encoding: chunked\r\nTransfer-Encoding: identity\r\n', '0\r\n\r\n'],
      ['chunks last but one', 'Transfer-Encoding: chunked, identity\r\n', '0\r\n\r\n'],
      ['chunks with a tab', 'Transfer-Encoding:\tchunked\r\n', '0\r\n\r\n'],
      ['chunks misspelt', 'Transfer-Encoding: chunkedx\r\n', '0\r\n\r\n'],
      ['chunks after a blank', 'Transfer-Encoding : chunked\r\n', '0\r\n\r\n'],
      ['a chunk too large to count', 'Transfer-Encoding: chunked\r\n', 'ffffffffffffffff1\r\n'],
      ['a chunk with more behind it', 'Transfer-Encoding: chunked\r\n', '3;x=\r\n\r\nabc\r\n0\r\n\r\n'],
      ['a chunk that ends with a line feed', 'Transfer-Encoding: chunked\r\n', '3\nabc\n0\n\n'],
      ['trailers', 'Transfer-Encoding: chunked\r\n', `0\r\nHost: ${COPY}\r\n\r\n`],
      ['no end of its head', 'X: ', ''],
    ].map(([name, head, body]) => [`beside a request: ${name}`, after(line('/', head, 'POST'), body ?? '')] as const),
  ];
};

describe.each(Object.keys(SERVERS))('behind %s', (name) => {
  const server = SERVERS[name] as (typeof SERVERS)[string];
  let folder: string;
  let web: ChildProcess;
  let gateway: GatewayAlone;
  let pass: string;
  let log = '';
  const send = (bytes: string): Promise<string> => sendTo(gateway.port, bytes, 100);
  const get = (host: string, more = ''): Promise<string> =>
    sendTo(gateway.port, `GET / HTTP/1.1\r\nHost: ${host}\r\nConnection: close\r\n${more}\r\n`, 10_000);

  beforeAll(async () => {
    folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-web-'));
    await fs.chmod(folder, 0o755);
    for (const [of, words] of [
      ['live', PUBLIC],
      ['copy', SECRET],
    ] as const) {
      await fs.mkdir(join(folder, of));
      await fs.writeFile(join(folder, of, 'index.html'), `<!doctype html><title>x</title><body>${words}</body>`);
    }
    const port = await freePort();
    const config = join(folder, 'web.conf');
    await fs.writeFile(config, server.config({ folder, port }));
    web = spawn(server.program, server.args(config), { stdio: ['ignore', 'ignore', 'pipe'] });
    web.stderr?.on('data', (data: Buffer) => {
      log += data.toString();
    });
    gateway = await startGateway([
      { host: LIVE, kind: 'live', port },
      { host: COPY, kind: 'staging', port },
    ]);
    await vi
      .waitUntil(async () => (await get(LIVE)).includes(PUBLIC), { timeout: 20_000 })
      .catch((error) => {
        throw new Error(`${name} does not answer: ${log}`, { cause: error });
      });
    await vi.waitUntil(async () => (await get(COPY)).includes('working copy'), { timeout: 20_000 });
    const form = new URLSearchParams(GATE).toString();
    const entered = await sendTo(
      gateway.port,
      `POST /.tessarion/gate HTTP/1.1\r\nHost: ${COPY}\r\nConnection: close\r\nContent-Length: ${form.length}\r\n\r\n${form}`,
      10_000,
    );
    pass = /set-cookie: ([^;]+)/i.exec(entered)?.[1] ?? '';
  }, 60_000);
  afterAll(async () => {
    await gateway?.stop();
    if (web.exitCode === null) {
      const ended = new Promise((resolved) => web.once('exit', resolved));
      web.kill('SIGTERM');
      await ended;
    }
    await fs.rm(folder, { recursive: true });
  });

  it('shows each site at its own name, the copy to who may pass its gate', async () => {
    expect(await get(LIVE)).toContain(PUBLIC);
    expect(await get(COPY, `Cookie: ${pass}\r\n`)).toContain(SECRET);
    const byAddress = await sendTo(
      gateway.port,
      `GET http://${LIVE}/ HTTP/1.1\r\nHost: ${LIVE}\r\nConnection: close\r\n\r\n`,
      10_000,
    );
    expect(byAddress, 'a target that names the same').toContain(PUBLIC);
  });

  /** Sends some at a time, and live is asked beside them as its visitors do. */
  async function attack(all: readonly (readonly [string, string])[]): Promise<void> {
    const AT_ONCE = 6;
    for (let i = 0; i < all.length; i += AT_ONCE)
      await Promise.all(
        all.slice(i, i + AT_ONCE).map(async ([what, bytes]) => {
          tried('copies behind real web servers');
          const [got, live] = await Promise.all([send(bytes), get(LIVE)]);
          expect(got, what).not.toContain(SECRET);
          expect(live, what).toContain(PUBLIC);
          expect(live, what).not.toContain(SECRET);
        }),
      );
    expect(await get(LIVE), 'afterwards').toContain(PUBLIC);
  }

  it('shows no stranger the copy, whatever they ask live for', () => attack(requests()));

  it('shows live’s visitors nothing of the copy, whatever is asked of that', () =>
    attack(requests().map(([what, bytes]) => [what, bytes.replaceAll(LIVE, COPY)])));
});
