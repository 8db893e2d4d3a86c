import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import {
  done,
  folderOf,
  forecastOf,
  onSite,
  pushOnto,
  type Studio,
  settled,
  startStudio,
  tessarion,
  undo,
  undoForecastOf,
} from './support/studio.js';

let studio: Studio;
const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';

beforeAll(async () => {
  studio = await startStudio('staging');
}, 120_000);
afterAll(() => studio?.stop());

const run = (path: string, ...statements: string[]): Promise<void> =>
  onSite(studio, path, async (query) => {
    for (const sql of statements) await query(sql);
  });
const one = async (path: string, sql: string): Promise<unknown> =>
  Object.values((await onSite(studio, path, (query) => query(sql)))[0] ?? {})[0];
const say = (forecast: { sentence: readonly { text: string }[] }): string =>
  forecast.sentence.map((piece) => piece.text).join('');
const items = async (forecast: { id: string }) =>
  (await studio.client.call('forecastItems', { params: { id: forecast.id }, query: {} })).items;
const waiting = async (): Promise<string[]> =>
  (await items(await forecastOf(studio, COPY, LIVE))).map((item) => item.title).sort();

describe('an undo, step by step', { shuffle: false }, () => {
  it('shows before it begins what it takes back and what others changed since, and lets people choose', async () => {
    const style = join(folderOf(studio, LIVE), 'main/styles/site.css');
    const styleBefore = await fs.readFile(style, 'utf8');
    await run(
      COPY,
      "UPDATE product SET price = 36.00 WHERE slug = 'apron'",
      "UPDATE page SET body = 'Walnut.', title = 'Dyes' WHERE slug = 'dye'",
      "INSERT INTO page (slug, title, body) VALUES ('fair', 'The fair', '')",
      "DELETE FROM product WHERE slug = 'bag'",
    );
    await fs.writeFile(join(folderOf(studio, COPY), 'main/styles/site.css'), `.autumn{}\n${styleBefore}`);
    const before = await waiting();
    const push = await done(studio, await pushOnto(studio, COPY, LIVE));
    expect(await waiting()).toEqual([]);
    // Others go on: an editor and a developer, at what the push wrote and beside it.
    await run(
      LIVE,
      "UPDATE page SET body = 'Walnut and weld.' WHERE slug = 'dye'",
      "UPDATE product SET description = 'Warm.' WHERE slug = 'apron'",
    );
    await fs.appendFile(style, '.later{}\n');

    const forecast = await undoForecastOf(studio, push.id);
    expect(say(forecast)).toMatch(
      /^Take back .*2 products.* of t-\S+ from threadmill\/live; .*that live changed meanwhile/,
    );
    expect(forecast).toMatchObject({ undoes: push.id, onto: LIVE, unsettled: 0, lost: [] });
    const dye = (await items(forecast)).find((item) => item.title === 'How we dye');
    expect(dye?.collisions.map((each) => [each.field, each.settled?.take])).toEqual([['body', 'destination']]);
    expect(dye?.fields.find((field) => field.name === 'body')).toMatchObject({
      base: 'Walnut.',
      before: 'Walnut and weld.',
      after: 'Walnut and weld.',
    });

    // A part first: the rest can still be taken back.
    const part = await done(studio, await undo(studio, push.id, { only: ['product:*'] }));
    expect(await one(LIVE, "SELECT price::text FROM product WHERE slug = 'apron'")).toBe('34.00');
    expect(await one(LIVE, "SELECT description FROM product WHERE slug = 'apron'"), 'later work stays').toBe('Warm.');
    expect(await one(LIVE, "SELECT count(*)::int FROM product WHERE slug = 'bag'")).toBe(1);
    expect(await one(LIVE, "SELECT count(*)::int FROM page WHERE slug = 'fair'")).toBe(1);
    expect(part.proof.filter((point) => point.state === 'failed')).toEqual([]);
    expect(await studio.client.call('transferShow', { params: { id: push.id } })).toMatchObject({
      state: 'done',
      undoneBy: null,
      canUndo: true,
    });
    expect(await waiting(), 'what was taken back waits again').toEqual(['Linen apron', 'Market bag']);

    const rest = await done(
      studio,
      await undo(studio, push.id, { settlements: { [dye?.id ?? '']: { take: 'source' } } }),
    );
    expect(rest.remains).toEqual([]);
    expect(await one(LIVE, "SELECT title || ': ' || body FROM page WHERE slug = 'dye'")).not.toContain('alnut');
    expect(await one(LIVE, "SELECT count(*)::int FROM page WHERE slug = 'fair'")).toBe(0);
    expect(await fs.readFile(style, 'utf8'), 'a developer’s later lines stay').toBe(`${styleBefore}.later{}\n`);
    expect((await studio.client.call('transferShow', { params: { id: push.id } })).undoneBy).toBe(rest.id);
    expect(await waiting(), 'everything waits again').toEqual(before);
  });

  it('keeps what later work needs', async () => {
    await run(COPY, "INSERT INTO page (slug, title, body) VALUES ('wool', 'Wool', '')");
    const push = await done(studio, await pushOnto(studio, COPY, LIVE, { wishes: { only: ['page:*'] } }));
    await run(
      LIVE,
      "INSERT INTO menu (position, label, target, page_id) SELECT 90, 'Wool', '/wool', id FROM page WHERE slug = 'wool'",
    );
    const forecast = await undoForecastOf(studio, push.id);
    const wool = (await items(forecast)).find((item) => item.title === 'Wool');
    expect([wool?.outcome, wool?.reason]).toEqual(['kept', expect.stringContaining('menu')]);
    await done(studio, await undo(studio, push.id));
    expect(await one(LIVE, "SELECT count(*)::int FROM page WHERE slug = 'wool'")).toBe(1);
  });

  it('refuses a forecast of something else, and says what was misspelt', async () => {
    const { items: pushes } = await studio.client.call('transferList', { query: { kind: 'push' } });
    await run(COPY, "UPDATE page SET title = 'Home again' WHERE slug = 'home'");
    const push = await done(studio, await pushOnto(studio, COPY, LIVE, { wishes: { only: ['page:*'] } }));
    const forecast = await undoForecastOf(studio, push.id);
    const refused = async (id: string, of: string): Promise<string> =>
      studio.client.call('transferUndo', { params: { id }, body: { forecast: of, confirm: LIVE } }).then(
        () => 'done',
        (error: Error) => error.message,
      );
    expect(await refused(push.id, (await forecastOf(studio, COPY, LIVE)).id)).toContain('does not say what undoing');
    expect(
      await studio.client
        .call('pushCreate', { body: { forecast: forecast.id, confirm: LIVE } })
        .catch((e: Error) => e.message),
    ).toContain('is of an undo');
    expect(await refused(pushes.find((each) => each.undoneBy)?.id ?? '', forecast.id)).toContain('undone already');
    const misspelt = await settled(studio, forecast.id, { only: ['page:none'] });
    expect(misspelt.checks.find((check) => check.state === 'failed')?.message).toContain('page:none');
    // Somebody changes it between the forecast and the undo.
    const late = await undoForecastOf(studio, push.id);
    await run(LIVE, "UPDATE page SET title = 'In between' WHERE slug = 'home'");
    const outdated = await studio.client.call('transferUndo', {
      params: { id: push.id },
      body: { forecast: late.id, confirm: LIVE },
    });
    const told = await tessarion(studio, ['watch', outdated.id]);
    expect(told.code).toBe(5);
    expect(await one(LIVE, "SELECT title FROM page WHERE slug = 'home'")).toBe('In between');
  });
});
