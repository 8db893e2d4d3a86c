import { visit } from '@tessarion/demo';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { addSite, newcomer, onRecords, SHOP, type Studio, signIn, startStudio, tessarion } from './support/studio.js';

const MAREN = 'maren.brask@copperlane.example';
let studio: Studio;

beforeAll(async () => {
  studio = await startStudio('live');
  await addSite(studio, { ...SHOP, name: 'saltmarsh', client: 'Saltmarsh Ferries' });
  for (const site of ['threadmill', 'saltmarsh'])
    await studio.client.call('windowSet', {
      params: { site },
      body: { windows: [{ days: [1, 2, 3, 4, 5, 6, 7], from: '22:00', until: '02:00' }] },
      etag: '*',
    });
  await studio.client.call('freezeAdd', {
    body: {
      reason: 'The fair; all of it, and\nmore',
      scope: 'threadmill',
      time: { repeats: 'never', from: '2026-12-01T08:00', until: '2099-12-03T20:00' },
    },
  });
}, 120_000);
afterAll(() => studio?.stop());

const read = async (url: string): Promise<{ status: number; text: string; type: string }> => {
  const response = await fetch(url);
  return { status: response.status, text: await response.text(), type: response.headers.get('content-type') ?? '' };
};
/** Lines of a calendar, folded ones joined (RFC 5545, 3.1). */
const linesOf = (text: string): string[] => text.replaceAll(/\r\n[ \t]/g, '').split('\r\n');

describe('a calendar', () => {
  it('holds windows, freezes and deliveries of what its person may read, and ends with a newer one', async () => {
    const maren = await signIn(studio, MAREN);
    const { url } = await maren.call('calendarMake');
    const all = await read(url);
    expect(all.type).toContain('text/calendar');
    const lines = linesOf(all.text);
    expect(lines[0]).toBe('BEGIN:VCALENDAR');
    for (const summary of ['threadmill: window', 'saltmarsh: window', 'threadmill: frozen'])
      expect(lines).toContain(`SUMMARY:${summary}`);
    expect(lines).toContain('DESCRIPTION:The fair\\; all of it\\, and\\nmore');
    const ids = lines.filter((line) => line.startsWith('UID:'));
    expect(new Set(ids).size, 'each event has a name of its own').toBe(ids.length);
    expect(
      lines.filter((line) => line.startsWith('DTSTART:')).every((line) => /^DTSTART:\d{8}T\d{6}Z$/.test(line)),
    ).toBe(true);
    expect(
      linesOf((await read(url)).text).filter((line) => line.startsWith('UID:')),
      'names stay',
    ).toEqual(ids);

    const sanna = await newcomer(studio, 'sanna@copperlane.example', 'observer', 'saltmarsh');
    const own = await sanna.call('calendarMake');
    const few = linesOf((await read(own.url)).text);
    expect(few).toContain('SUMMARY:saltmarsh: window');
    expect(few.join()).not.toContain('threadmill');

    const next = await maren.call('calendarMake');
    expect((await read(url)).status, 'the former address').toBe(404);
    expect((await read(next.url)).status).toBe(200);
    await maren.call('calendarEnd');
    expect((await read(next.url)).status).toBe(404);
    await studio.client.call('personEnd', { params: { id: (await sanna.call('me')).id } });
    expect((await read(own.url)).status, 'who left reads nothing').toBe(404);
  });

  it('is found by no guess, and its address is in no log', async () => {
    const { url } = await (await signIn(studio, MAREN)).call('calendarMake');
    await read(url);
    const key = new URL(url).searchParams.get('key') ?? '';
    expect(key.length).toBeGreaterThan(30);
    for (const guess of ['', 'x', `${key}x`])
      expect((await read(`${url.split('?')[0]}?key=${guess}`)).status).toBe(404);
    const { readFile } = await import('node:fs/promises');
    expect(await readFile(`${studio.data}/service.log`, 'utf8')).not.toContain(key);
    expect(JSON.stringify(await onRecords(studio, 'SELECT * FROM calendar'))).not.toContain(key);
  });
});

describe('quiet hours', () => {
  it('are proposed from the visitors that came through the gateway', async () => {
    const quiet = () => studio.client.call('quietHours', { params: { site: 'threadmill' } });
    expect(await quiet()).toEqual({ site: 'threadmill', since: null, proposal: null });
    for (let i = 0; i < 3; i++) await visit(studio.gatewayPort, 'threadmill.localhost', '/');
    const counted = async (): Promise<number> => {
      const [row] = await onRecords(
        studio,
        "SELECT sum(requests)::int AS n FROM traffic_hour WHERE environment = 'threadmill/live'",
      );
      return Number(row?.n ?? 0);
    };
    await expect.poll(counted, { timeout: 90_000 }).toBeGreaterThanOrEqual(3);
    const { since, proposal } = await quiet();
    expect(since).not.toBeNull();
    expect(proposal, 'a whole week is needed').toBeNull();

    // Three weeks of an ordinary shop, by the clock on its wall.
    const { timeZone } = await studio.client.call('siteShow', { params: { site: 'threadmill' } });
    await onRecords(
      studio,
      `INSERT INTO traffic_hour SELECT 'threadmill/live', h, CASE WHEN extract(hour FROM h AT TIME ZONE '${timeZone}') BETWEEN 2 AND 4 THEN 2 ELSE 200 END
       FROM generate_series(date_trunc('hour', now()) - interval '21 days', date_trunc('hour', now()) - interval '1 hour', interval '1 hour') h
       ON CONFLICT DO NOTHING`,
    );
    expect((await quiet()).proposal).toMatchObject({
      window: { days: [1, 2, 3, 4, 5, 6, 7], from: '02:00', until: '05:00' },
      quiet: 2,
    });
    const said = await tessarion(studio, ['window', 'quiet', 'threadmill']);
    expect(said.out).toContain('Quiet: 02:00 to 05:00');
  });
});
