import { type AddressInfo, createServer, connect as dial, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { connectTo } from '../src/postgres/connect.js';
import { Yard } from './support/pair.js';

let yard: Yard;
const relays: { close: () => Promise<void> }[] = [];

/** Passes connections on to the database server, but for the first few, which hear nothing. */
async function relay(silentFor: number): Promise<{ port: number; heard: () => number }> {
  let heard = 0;
  const open = new Set<Socket>();
  const server = createServer((client) => {
    heard++;
    open.add(client);
    client.on('error', () => client.destroy());
    if (heard <= silentFor) return;
    const onward = dial(yard.server.port, yard.server.host);
    onward.on('error', () => client.destroy());
    onward.pipe(client).pipe(onward);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const close = async (): Promise<void> => {
    const closed = new Promise((resolve) => server.close(resolve));
    for (const client of open) client.destroy();
    await closed;
  };
  relays.push({ close });
  return { port: (server.address() as AddressInfo).port, heard: () => heard };
}

const login = (port: number, password = yard.server.password) => ({
  ...yard.server,
  host: '127.0.0.1',
  port,
  password,
  database: 'postgres',
});

beforeAll(async () => {
  yard = await Yard.open();
});
afterAll(async () => {
  for (const { close } of relays) await close();
  await yard.close();
});

describe('a session on a site’s database', () => {
  it('is opened at the second try where the first met silence', async () => {
    const { port, heard } = await relay(1);
    const session = await connectTo(login(port), 'read', 'test');
    expect((await session.query('SELECT 1 AS one')).rows).toEqual([{ one: 1 }]);
    await session.end();
    expect(heard()).toBe(2);
  });

  it('is asked for as often as somebody has patience for', async () => {
    const { port, heard } = await relay(2);
    const end = connectTo(login(port), 'read', 'test', [100]);
    await expect(end).rejects.toMatchObject({ code: 'database-unreachable' });
    expect(heard()).toBe(1);
  });

  it('is not asked for twice where the server refuses or is not there', async () => {
    const { port, heard } = await relay(0);
    await expect(connectTo(login(port, 'wrong'), 'read', 'test')).rejects.toMatchObject({ code: 'database-refused' });
    expect(heard()).toBe(1);
    await relays.pop()?.close();
    await expect(connectTo(login(port), 'read', 'test')).rejects.toMatchObject({ code: 'database-unreachable' });
  });
});
