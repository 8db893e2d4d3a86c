import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { type Client, ServiceProblem } from '@tessarion/client';
import { visit } from '@tessarion/demo';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { ended, folderOf, forecastOf, newcomer, onSite, type Studio, settled, startStudio } from './support/studio.js';

/** Deliveries; the proof is 200. */
const DELIVERIES = Number(process.env.TESSARION_NIGHT_DELIVERIES ?? 8);
const SEED = Number(process.env.TESSARION_NIGHT_SEED ?? 7);
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

/** What is edited: fields of rows, and whole files. */
const FIELDS = {
  page: { home: ['title', 'body'], dye: ['title', 'body'] },
  product: { apron: ['title', 'description'], throw: ['title', 'description'], bag: ['title', 'description'] },
} as const;
const FILES = ['styles/site.css', 'styles/links.css'];
interface Place {
  readonly item: string;
  readonly field: string;
  readonly read: (path: string) => Promise<string>;
  readonly write: (path: string, value: string) => Promise<unknown>;
}
/** What a place holds on both ends, and held when the two last agreed about it. */
interface Held {
  copy: string;
  live: string;
  readonly common: { copy: string; live: string };
}

let studio: Studio;
let author: Client;
let reviewer: Client;
const places: Place[] = [];
const held = new Map<Place, Held>();

beforeAll(async () => {
  studio = await startStudio('staging');
  author = await newcomer(studio, 'ida.moe@copperlane.example', 'editor', 'threadmill', 'Ida Moe');
  reviewer = await newcomer(studio, 'lise.aune@copperlane.example', 'reviewer', 'threadmill', 'Lise Aune');
  await studio.client.call('laneRule', {
    params: { site: 'threadmill', onto: 'live' },
    body: { approvals: 1, teams: [], threadsBlock: false, guests: 0 },
    etag: '*',
  });
  for (const [table, rows] of Object.entries(FIELDS))
    for (const [slug, fields] of Object.entries(rows)) {
      const id = await cell(LIVE, `SELECT id::text FROM ${table} WHERE slug = '${slug}'`);
      for (const field of fields)
        places.push({
          item: `${table}:${id}`,
          field,
          read: (path) => cell(path, `SELECT ${field} FROM ${table} WHERE slug = '${slug}'`),
          write: (path, value) =>
            onSite(studio, path, (query) => query(`UPDATE ${table} SET ${field} = $1 WHERE slug = $2`, [value, slug])),
        });
    }
  for (const file of FILES)
    places.push({
      item: `file:main/${file}`,
      field: '',
      read: (path) => fs.readFile(fileOn(path, file), 'utf8'),
      write: (path, value) => fs.writeFile(fileOn(path, file), value),
    });
  for (const one of places) {
    const [copy, live] = [await one.read(COPY), await one.read(LIVE)];
    held.set(one, { copy, live, common: { copy, live } });
  }
}, 120_000);
afterAll(() => studio?.stop());

const fileOn = (path: string, file: string): string => join(folderOf(studio, path), 'main', file);
const cell = (path: string, sql: string): Promise<string> =>
  onSite(studio, path, async (query) => String(Object.values((await query(sql))[0] ?? {})[0]));
const of = (place: Place): Held => held.get(place) as Held;
const isChanged = (place: Place, end: 'copy' | 'live'): boolean => of(place)[end] !== of(place).common[end];

const itemsOf = async (id: string): Promise<unknown> => {
  const { items } = await studio.client.call('forecastItems', { params: { id }, query: {} });
  return items.map(({ id: item, outcome, fields, collisions }) => ({ item, outcome, fields, collisions }));
};

let written = 0;
async function edit(place: Place, end: 'copy' | 'live'): Promise<void> {
  const value = `<p>${end} wrote ${++written}</p>`;
  await place.write(end === 'copy' ? COPY : LIVE, value);
  of(place)[end] = value;
}

async function order(product: number): Promise<void> {
  const { status } = await visit(studio.gatewayPort, 'threadmill.localhost', '/order', {
    product: String(product),
    name: 'Aud Lindgren',
    email: 'aud@post.example',
    quantity: '1',
  });
  expect(status).toBe(200);
}

/** Delivers what was approved. @returns whether it went, and why not */
async function deliver(id: string): Promise<{ readonly went: boolean; readonly because: string }> {
  try {
    await studio.client.call('requestDeliver', { params: { id }, body: { when: 'now', confirm: LIVE } });
  } catch (error) {
    if (error instanceof ServiceProblem) return { went: false, because: error.problem.title };
    throw error;
  }
  const { transfer } = await author.call('requestShow', { params: { id } });
  const end = await ended(studio, { id: transfer ?? '' });
  return { went: end.state === 'done', because: end.failure?.message ?? '' };
}

describe('deliveries at night', () => {
  it('are stopped by what they would overwrite or nobody approved, and by nothing else', {
    timeout: 60_000 + DELIVERIES * 30_000,
  }, async () => {
    const stream = fc.sample(fc.integer({ min: 0, max: 2 ** 30 }), { seed: SEED, numRuns: DELIVERIES * 60 });
    const below = (n: number): number => (stream.pop() as number) % n;
    const anyOf = <T>(list: readonly T[]): T => list[below(list.length)] as T;
    const counts = { went: 0, stopped: 0 };
    for (let round = 0; round < DELIVERIES; round++) {
      for (let i = 1 + below(4); i > 0; i--) await edit(anyOf(places), 'copy');
      if (below(3) === 0) await edit(anyOf(places), 'live');
      const waiting = [...new Set(places.filter((one) => isChanged(one, 'copy')).map((one) => one.item))];
      const only = waiting.filter(() => below(2) === 0);
      if (only.length === 0) only.push(anyOf(waiting));
      const taken = places.filter((one) => only.includes(one.item) && isChanged(one, 'copy'));
      // Where all collides, keeping it would leave nothing to deliver.
      const isAllColliding = taken.every((one) => isChanged(one, 'live'));
      const rest = isAllColliding ? 'source' : anyOf(['source', 'destination'] as const);
      let forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only } });
      if (forecast.unsettled > 0) forecast = await settled(studio, forecast.id, { rest });
      const stays = taken.filter((one) => isChanged(one, 'live') && rest === 'destination');
      const goes = taken.filter((one) => !stays.includes(one));
      const told = { round, only, rest, goes: goes.map((one) => `${one.item} ${one.field}`) };
      expect(forecast.written, JSON.stringify({ ...told, items: await itemsOf(forecast.id) })).not.toEqual([]);
      const opened = await author.call('requestOpen', {
        body: {
          forecast: forecast.id,
          title: `Round ${round}`,
          reviewers: [{ person: (await reviewer.call('me')).id }],
        },
      });
      await author.call('requestAsk', { params: { id: opened.id } });
      await reviewer.call('verdictGive', {
        params: { id: opened.id },
        body: { says: 'approve', revision: opened.revision },
      });

      // Between the approval and the delivery, life goes on.
      const since: string[] = [];
      let isStopped = false;
      for (let i = below(5); i > 0; i--) {
        const [what, place] = [below(4), anyOf(places)];
        if (what <= 1) await order(1 + below(3));
        else if (what === 2) {
          await edit(place, 'live');
          since.push(`live ${place.item} ${place.field}`);
          isStopped ||= goes.includes(place);
        } else {
          await edit(place, 'copy');
          since.push(`copy ${place.item} ${place.field}`);
          isStopped ||= only.includes(place.item);
        }
      }
      await order(1);
      const { went, because } = await deliver(opened.id);
      const all = { ...told, since, because };
      expect(went, JSON.stringify(all)).toBe(!isStopped);
      counts[went ? 'went' : 'stopped']++;
      if (went) {
        for (const one of goes) {
          const { copy } = of(one);
          held.set(one, { copy, live: copy, common: { copy, live: copy } });
        }
        for (const one of stays) {
          const { copy, live } = of(one);
          held.set(one, { copy, live, common: { copy, live } });
        }
      } else
        await studio.client.call('requestWithdraw', { params: { id: opened.id }, body: { reason: 'It was stopped.' } });
      for (const one of places) {
        const found = { copy: await one.read(COPY), live: await one.read(LIVE) };
        expect(found, JSON.stringify({ ...all, at: `${one.item} ${one.field}` })).toEqual({
          copy: of(one).copy,
          live: of(one).live,
        });
      }
    }
    console.info(`Of ${DELIVERIES} deliveries ${counts.went} went and ${counts.stopped} were stopped.`);
    expect(counts.went).toBeGreaterThan(0);
    expect(counts.stopped).toBeGreaterThan(0);
  });
});
