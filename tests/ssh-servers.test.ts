import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { freePort } from '@tessarion/cluster';
import type { ResponseOf } from '@tessarion/contract';
import { install, visit } from '@tessarion/demo';
import { WebHost } from '@tessarion/demo-site';
import { fingerprintOf } from '@tessarion/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { type Sshd, startSshd } from '../packages/engine/test/support/sshd.js';
import {
  done,
  forecastOf,
  makeCopy,
  onRecords,
  onSite,
  pushOnto,
  SHOP,
  type Studio,
  startStudio,
  tessarion,
  undo,
} from './support/studio.js';

let studio: Studio;
let sshd: Sshd;
let jump: Sshd;
let webHost: WebHost;
let hosts: string;
let webHostPort: number;

beforeAll(async () => {
  studio = await startStudio();
  [sshd, jump] = await Promise.all([startSshd(), startSshd()]);
  hosts = join(studio.data, 'quay');
  await fs.mkdir(hosts);
  webHost = new WebHost(hosts);
  webHostPort = await freePort();
  await webHost.listen(webHostPort);
});
afterAll(async () => {
  await webHost?.close();
  await studio?.stop();
  await sshd?.stop();
  await jump?.stop();
});

const login = ({ place }: Sshd): string => `${place.user}@${place.host}:${place.port}`;
const keyOf = ({ place }: Sshd): string => fingerprintOf(place.hostKey as string);
const states = ({ steps }: ResponseOf<'serverTry'>): string[] => steps.map(({ name, state }) => `${name} ${state}`);

/** Tries the server on the command line. */
async function tried(...more: string[]): Promise<{ code: number; answer: ResponseOf<'serverTry'> }> {
  const { code, out } = await tessarion(studio, ['server', 'try', 'quay-1', '--json', ...more]);
  return { code, answer: JSON.parse(out) };
}

// One server goes through all of them.
describe('a server that is reached by way of another one', { shuffle: false }, () => {
  it('is added with a key of its own, whose public half is shown, and the private one nowhere', async () => {
    const { host, port, user, password } = studio.server;
    const added = await tessarion(
      studio,
      [
        ...['server', 'add', 'quay-1', '--ssh', login(sshd), '--jump', login(jump), '--folder', hosts],
        ...['--base-domain', 'quay.localhost', '--web-host', `127.0.0.1:${webHostPort}`],
      ],
      { TESSARION_DATABASE: `postgresql://${user}:${password}@${host}:${port}/postgres` },
    );
    expect([added.code, added.err]).toEqual([0, '']);
    expect(added.out).toContain('Then: tessarion server try quay-1');
    const lines = added.out.split('\n').filter((line) => line.startsWith('restrict,port-forwarding,permitopen="'));
    expect(lines.map((line) => line.split('"')[1])).toEqual([`${host}:${port}`, `127.0.0.1:${sshd.place.port}`]);
    const [record] = await onRecords(studio, "SELECT ssh_key FROM server WHERE name = 'quay-1'");
    expect(record?.ssh_key).not.toContain('PRIVATE KEY');
    expect(JSON.stringify(await studio.client.call('serverList'))).not.toContain('PRIVATE KEY');
  });

  it('is tried step by step, and each step that fails says what is to be done', async () => {
    const first = await tried();
    expect([first.code, states(first.answer)]).toEqual([3, ['jump host: host key failed']]);
    expect(first.answer.steps[0]?.remedy).toContain(`tessarion server try quay-1 --host-key ${keyOf(jump)}`);

    const other = await tried('--host-key', keyOf(sshd));
    expect(states(other.answer), 'a key that it does not show is not taken').toEqual(['jump host: host key failed']);

    const second = await tried('--host-key', keyOf(jump));
    expect(states(second.answer)).toEqual(['jump host: host key passed', 'jump host: login failed']);
    expect(second.answer.steps[1]?.message).toContain('does not accept the key');

    const { keyLines } = second.answer.server.ssh as NonNullable<ResponseOf<'serverTry'>['server']['ssh']>;
    await fs.appendFile(jump.authorized, `${keyLines.jump}\n`);
    const third = await tried();
    expect(states(third.answer).slice(1)).toEqual(['jump host: login passed', 'host key failed']);

    await fs.appendFile(sshd.authorized, `${keyLines.server}\n`);
    const last = await tried('--host-key', keyOf(sshd));
    expect([last.code, last.answer.steps.filter(({ state }) => state === 'failed')]).toEqual([0, []]);
    expect(states(last.answer).slice(2)).toEqual([
      ...['host key passed', 'login passed', 'shell passed', 'clock passed', 'programs passed'],
      ...['folder passed', 'disk passed', 'web server passed', 'databases passed'],
    ]);
    expect(await fs.readdir(hosts), 'nothing is left of what was tried').toEqual([]);
  });

  it('has a site brought in, copied, pushed, taken back and its copy removed', async () => {
    const own = await install({ ...studio.place, hosts, webHostPort }, SHOP);
    await done(studio, await studio.client.call('siteAdopt', { body: { ...own, server: 'quay-1' } }));
    const live = (path: string) => visit(studio.gatewayPort, 'threadmill.localhost', path);
    expect((await live('/')).status).toBe(200);

    await makeCopy(studio, 'threadmill', 'staging');
    const copy = join(hosts, 'threadmill--staging');
    expect(await fs.readFile(join(copy, 'main/config/site.env'), 'utf8')).toContain(
      'threadmill--staging.quay.localhost',
    );

    await onSite(studio, 'threadmill/staging', (query) => query("UPDATE product SET price = 36 WHERE slug = 'apron'"));
    await fs.writeFile(join(copy, 'main/media/new.svg'), '<svg/>');
    const transfer = await pushOnto(studio, 'threadmill/staging', 'threadmill/live');
    await done(studio, transfer);
    expect((await live('/media/new.svg')).status).toBe(200);
    expect((await live('/product/apron')).body).toContain('36.00');

    await done(studio, await undo(studio, transfer.id));
    expect((await live('/media/new.svg')).status).toBe(404);
    expect((await live('/product/apron')).body).toContain('34.00');

    await done(
      studio,
      await studio.client.call('environmentRemove', {
        params: { site: 'threadmill', environment: 'staging' },
        query: { confirm: 'threadmill/staging' },
      }),
    );
    expect(await fs.readdir(hosts)).toEqual(['threadmill--live']);
  });

  it('gets a copy of a site that lives on another machine, whose work goes up there', async () => {
    const elsewhere = { ...SHOP, name: 'larkfield' };
    const own = await install(studio.place, elsewhere);
    await done(studio, await studio.client.call('siteAdopt', { body: own }));
    const made = await tessarion(studio, ['env', 'create', 'larkfield/staging', '--server', 'quay-1']);
    expect([made.code, made.err]).toEqual([0, expect.any(String)]);
    const copy = join(hosts, 'larkfield--staging');
    expect(await fs.readFile(join(copy, 'main/config/site.env'), 'utf8')).toContain(
      'larkfield--staging.quay.localhost',
    );
    const { server } = await studio.client.call('environmentShow', {
      params: { site: 'larkfield', environment: 'staging' },
    });
    expect(server).toBe('quay-1');
    const first = await forecastOf(studio, 'larkfield/staging', 'larkfield/live');
    expect([first.failure, first.written]).toEqual([null, []]);

    await fs.writeFile(join(copy, 'main/media/new.svg'), '<svg/>');
    await onSite(studio, 'larkfield/staging', (query) => query("UPDATE product SET price = 37 WHERE slug = 'apron'"));
    const push = await done(studio, await pushOnto(studio, 'larkfield/staging', 'larkfield/live'));
    const live = (path: string) => visit(studio.gatewayPort, 'larkfield.localhost', path);
    expect((await live('/media/new.svg')).status).toBe(200);
    expect((await live('/product/apron')).body).toContain('37.00');
    await done(studio, await undo(studio, push.id));
    expect((await live('/media/new.svg')).status).toBe(404);
  });
});
