import * as fs from 'node:fs/promises';
import type { Client } from '@tessarion/client';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { comeIn, newcomer, onRecords, type Studio, startStudio } from '../support/studio.js';
import { throughGateway } from '../support/through-gateway.js';
import { tried } from './tried.js';

const COPY = 'threadmill/staging';
const at = { params: { site: 'threadmill', environment: 'staging' } };
const HOST = 'threadmill--staging.localhost';

let studio: Studio;
beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

/** Goes through a link's address, and gives back the pass that it leaves. */
async function pass({ url }: { readonly url: string }): Promise<string> {
  const { pathname, search } = new URL(url);
  const entered = await throughGateway(studio.gatewayPort, HOST, `${pathname}${search}`);
  return String(entered.headers['set-cookie'] ?? '').split(';')[0] ?? '';
}
const status = async (cookie: string): Promise<number> =>
  (await throughGateway(studio.gatewayPort, HOST, '/', { cookie })).status;

let number = 0;
const colleague = (role = 'developer', scope = 'threadmill'): Promise<Client> =>
  newcomer(studio, `colleague-${number++}@copperlane.example`, role, scope);
const idOf = async (client: Client): Promise<string> => (await client.call('me')).id;

describe('a pass past a copy’s gate', () => {
  it.each<[string, (client: Client) => Promise<unknown>]>([
    ['access', async (client) => studio.client.call('personEnd', { params: { id: await idOf(client) } })],
    [
      'role',
      async (client) => {
        const [given] = (await client.call('me')).roles;
        return studio.client.call('roleTake', { params: { id: given?.id ?? '' } });
      },
    ],
  ])('ends at once with its person’s %s', async (_what, end) => {
    const client = await colleague();
    const cookie = await pass(await client.call('environmentEnter', at));
    expect(await status(cookie)).toBe(200);
    await end(client);
    tried('passes');
    expect(await status(cookie)).toBe(401);
  });

  it('ends at once with its person’s team', async () => {
    const client = await colleague('observer', 'threadmill/live');
    const members = [await idOf(client)];
    const team = (list: string[]) =>
      studio.client.call('teamSave', { params: { name: 'crew' }, body: { title: 'Crew', members: list }, etag: '*' });
    await studio.client.call('teamSave', { params: { name: 'crew' }, body: { title: 'Crew', members }, etag: null });
    await studio.client.call('roleGive', { body: { team: 'crew', role: 'observer', scope: 'threadmill' } });
    const cookie = await pass(await client.call('environmentEnter', at));
    expect(await status(cookie)).toBe(200);
    await team([]);
    tried('passes');
    expect(await status(cookie)).toBe(401);
    await team(members);
    expect(await status(cookie), 'who may see it again').toBe(200);
  });

  it('ends at once with its guest’s link, and opens nothing but what the link shows', async () => {
    const looks = [{ environment: COPY }];
    const { url, link } = await studio.client.call('guestInvite', {
      params: { site: 'threadmill' },
      body: { name: 'Vera Lund', looks },
    });
    const guest = await comeIn(studio, url);
    const cookie = await pass(await guest.call('guestOpen', { params: { position: 0 } }));
    expect(await status(cookie)).toBe(200);
    await studio.client.call('guestEnd', { params: { id: link.id } });
    tried('passes');
    expect(await status(cookie)).toBe(401);
  });

  it('is given once by a link, however it is spelled and whatever dies', async () => {
    const client = await colleague();
    const { url } = await client.call('environmentEnter', at);
    const ticket = new URL(url).searchParams.get('ticket') ?? '';
    expect(await pass({ url })).toContain('tsr_gate=');
    const spelled = (text: string): string => `http://${HOST}/.tessarion/enter?ticket=${encodeURIComponent(text)}`;
    const [fields, signature] = [ticket.slice(0, ticket.lastIndexOf('.')), ticket.slice(ticket.lastIndexOf('.') + 1)];
    for (const text of [
      ticket,
      ` ${ticket}`,
      `${ticket} `,
      `${ticket}=`,
      `${ticket}.`,
      `0${ticket}`,
      `+${ticket}`,
      `${fields}.${signature}\n`,
      `${fields.replace(/^(\d)/, '$1.0e0')}.${signature}`,
      `${fields}.${signature.slice(0, -1)}${signature.endsWith('A') ? 'B' : 'A'}`,
      ticket.toUpperCase(),
    ]) {
      tried('passes');
      expect([text, await pass({ url: spelled(text) })]).toEqual([text, '']);
    }
  });

  it('is of no use at another copy, nor as a session', async () => {
    const client = await colleague();
    const cookie = await pass(await client.call('environmentEnter', at));
    tried('passes');
    expect((await throughGateway(studio.gatewayPort, 'threadmill.localhost', '/', { cookie })).status).toBe(200);
    const value = cookie.split('=')[1] ?? '';
    const asSession = await fetch(`${studio.url}/api/v1/me`, { headers: { cookie: `tessarion_session=${value}` } });
    expect(asSession.status).toBe(401);
    expect(JSON.stringify(await onRecords(studio, 'SELECT * FROM session'))).not.toContain(value);
  });
});

describe('a gateway that nobody keeps any more', () => {
  /** Processes of the studio's gateway, by a word of how they were started. */
  const pidsOf = async (word: string): Promise<number[]> => {
    const found: number[] = [];
    for (const name of await fs.readdir('/proc')) {
      const args = (await fs.readFile(`/proc/${name}/cmdline`, 'utf8').catch(() => '')).split('\0');
      if (args.includes(`${studio.data}/tessarion`) && args.some((one) => one.endsWith(word))) found.push(Number(name));
    }
    return found;
  };

  it('is replaced by the service, which says that it is ready again', async () => {
    const ready = async (): Promise<number> => (await fetch(`${studio.url}/ready`)).status;
    expect(await ready()).toBe(200);
    const [keeper] = await pidsOf('gateway.cjs');
    process.kill(keeper as number, 'SIGKILL');
    tried('deaths');
    await expect.poll(async () => (await pidsOf('gateway.cjs')).filter((pid) => pid !== keeper)).toHaveLength(1);
    await expect.poll(() => pidsOf('copies')).toHaveLength(1);
    await expect.poll(ready).toBe(200);
    await expect
      .poll(
        async () =>
          (await throughGateway(studio.gatewayPort, 'threadmill.localhost', '/').catch(() => undefined))?.status,
      )
      .toBe(200);
    await expect.poll(async () => (await throughGateway(studio.gatewayPort, HOST, '/')).status).toBe(401);
  });

  it('is started anew when all of it has died', async () => {
    for (const word of ['gateway.cjs', 'front', 'copies'])
      for (const pid of await pidsOf(word)) process.kill(pid, 'SIGKILL');
    tried('deaths');
    await expect
      .poll(
        async () =>
          (await throughGateway(studio.gatewayPort, 'threadmill.localhost', '/').catch(() => undefined))?.status,
      )
      .toBe(200);
  });
});
