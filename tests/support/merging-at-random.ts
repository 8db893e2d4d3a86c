import { setTimeout as later } from 'node:timers/promises';
import type { ForecastItem } from '@tessarion/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { ANY_COPY, ANY_LIVE, bringInAnySite, type Dice, editAnySite, newEpoch, readEnd } from './any-site.js';
import { KeptSite } from './kept-site.js';
import {
  agreed,
  keepNotes,
  kept,
  type Pair,
  type Round,
  turned,
  wrongAfter,
  wrongInForecast,
  wrongNotes,
} from './merge-model.js';
import type { StudioOptions } from './start-studio.js';
import { done, forecastOf, onSite, type Studio, settled, startStudio, undo } from './studio.js';

/** Rounds of edits and transfers; the issue's proof is 500. A history ends after some, and a new one begins. */
const ROUNDS = Number(process.env.TESSARION_MERGE_ROUNDS ?? 10);
const SEED = Number(process.env.TESSARION_MERGE_SEED ?? 1);
const IN_HISTORY = 8;

/** A site is edited at both ends, merged and taken back at random, and compared with a model. */
export function mergesAtRandom(options: StudioOptions = {}): void {
  let studio: Studio;
  let site: KeptSite;
  beforeAll(async () => {
    studio = await startStudio('nothing', options);
    await bringInAnySite(studio);
    site = await KeptSite.of(studio, ANY_LIVE, ANY_COPY);
  });
  afterAll(() => studio?.stop());

  function diceOf(seed: number): Dice {
    const numbers = fc.sample(fc.integer({ min: 0, max: 2 ** 30 }), { seed, numRuns: 20_000 });
    let at = 0;
    const below = (n: number): number => (numbers[at++ % numbers.length] as number) % n;
    return { below, anyOf: (list) => list[below(list.length)] as (typeof list)[number] };
  }

  async function allItems(id: string): Promise<ForecastItem[]> {
    const found: ForecastItem[] = [];
    for (let after: string | undefined; ; ) {
      const { items, next } = await studio.client.call('forecastItems', {
        params: { id },
        query: { limit: 500, ...(after === undefined ? {} : { after }) },
      });
      found.push(...items);
      if (!next) return found;
      after = next;
    }
  }

  /** Settles what no rule may. */
  async function allSettled(
    id: string,
    wishes: Parameters<typeof settled>[2],
  ): Promise<{ id: string; items: ForecastItem[] }> {
    const settlements: Record<string, { take: 'source' | 'destination' }> = {};
    for (let tries = 0; ; tries++) {
      const items = await allItems(id);
      const open = items.flatMap((item) =>
        item.collisions.filter((one) => !one.settled && item.outcome === 'needs-you'),
      );
      if (open.length === 0) return { id, items };
      expect(tries, JSON.stringify(open)).toBeLessThan(6);
      for (const one of open) settlements[one.id] = { take: one.allowed.includes('source') ? 'source' : 'destination' };
      await settled(studio, id, { ...wishes, settlements });
    }
  }

  function mustBeNone(wrong: readonly string[]): void {
    if (wrong.length > 0) throw new Error(wrong.join('\n'));
  }

  async function history(seed: number, rounds: number, told: string[]): Promise<void> {
    const dice = diceOf(seed);
    await site.restore();
    let ends = { copy: await readEnd(studio, ANY_COPY), live: await readEnd(studio, ANY_LIVE) };
    /** With the copy as its source. */
    let pair: Pair = agreed(ends.copy, ends.live);
    const known = {
      copy: { items: new Map<string, string>(), parts: new Map<string, string>() },
      live: { items: new Map<string, string>(), parts: new Map<string, string>() },
    };
    const remember = (): void => {
      for (const end of ['copy', 'live'] as const)
        for (const what of ['items', 'parts'] as const)
          for (const [thing, id] of ends[end][what]) known[end][what].set(thing, id);
    };
    remember();
    for (let round = 0; round < rounds; round++) {
      newEpoch();
      told.push(`— round ${round}`);
      for (let n = 2 + dice.below(12); n > 0; n--) told.push(`copy: ${await editAnySite(studio, ANY_COPY, dice)}`);
      for (let n = dice.below(10); n > 0; n--) told.push(`live: ${await editAnySite(studio, ANY_LIVE, dice)}`);
      ends = { copy: await readEnd(studio, ANY_COPY), live: await readEnd(studio, ANY_LIVE) };
      remember();
      const direction = dice.below(4) === 0 ? ('down' as const) : ('up' as const);
      const [from, onto] = direction === 'up' ? [ANY_COPY, ANY_LIVE] : [ANY_LIVE, ANY_COPY];
      const [source, destination] = direction === 'up' ? [ends.copy, ends.live] : [ends.live, ends.copy];
      const { items: formerItems, parts: formerParts } = direction === 'up' ? known.copy : known.live;
      const before = kept(pair);
      const view: Round = {
        pair: direction === 'up' ? pair : turned(pair),
        source,
        destination,
        formerItems,
        formerParts,
        direction,
      };
      const first = await forecastOf(studio, from, onto);
      if (first.failure) throw new Error(first.failure.message);
      const listed = await allItems(first.id);
      told.push(`${direction}: ${listed.map((item) => `${item.id} ${item.change} ${item.outcome}`).join(' · ')}`);
      mustBeNone(wrongInForecast(view, listed));
      const only = dice.below(2) === 0 ? [] : listed.filter(() => dice.below(2) === 0).map(({ id }) => id);
      const rest = dice.anyOf(['source', 'destination'] as const);
      await settled(studio, first.id, { only, rest });
      const { id, items } = await allSettled(first.id, { only, rest });
      told.push(`only ${only.join(', ')} rest ${rest}`);
      told.push(
        ...items
          .filter((item) => item.outcome !== 'left-out')
          .map(
            (item) =>
              `  ${item.id} ${item.change} ${item.outcome} ${item.reason} ${item.takenAlongFor ?? ''} ${item.collisions.map((one) => `${one.field ?? 'row'}: ${one.words} → ${one.settled?.take}`).join('; ')}`,
          ),
      );
      const forecast = await studio.client.call('forecastShow', { params: { id } });
      if (forecast.failure) throw new Error(forecast.failure.message);
      if (only.length > 0)
        for (const item of items)
          if (item.outcome === 'written' && !only.includes(item.id) && item.takenAlongFor === null)
            expect.fail(`${item.id} is written, and nobody chose it`);
      if (forecast.written.length === 0) continue;
      const transfer = await done(
        studio,
        direction === 'up'
          ? await studio.client.call('pushCreate', { body: { forecast: id, confirm: onto } })
          : await studio.client.call('pullCreate', { body: { forecast: id } }),
      );
      expect(transfer.proof.filter((point) => point.state === 'failed')).toEqual([]);
      const now = { copy: await readEnd(studio, ANY_COPY), live: await readEnd(studio, ANY_LIVE) };
      ends = now;
      remember();
      const [sourceNow, destinationNow] = direction === 'up' ? [now.copy, now.live] : [now.live, now.copy];
      expect([...sourceNow.things], 'the source').toEqual([...source.things]);
      mustBeNone([...wrongNotes(view, items, destinationNow), ...wrongAfter(view, items, destinationNow)]);
      pair = direction === 'up' ? view.pair : turned(view.pair);
      if (dice.below(4) === 0) {
        told.push('undo');
        await done(studio, await undo(studio, transfer.id));
        const back = await readEnd(studio, onto);
        const sorted = (things: ReadonlyMap<string, unknown>) => Object.fromEntries([...things].sort());
        expect(sorted(back.things), 'after the undo').toEqual(sorted(destination.things));
        keepNotes({ ...view, pair: direction === 'up' ? before : turned(before) });
        pair = before;
      }
    }
  }

  const run = (path: string, sql: string): Promise<unknown> => onSite(studio, path, (query) => query(sql));
  const value = (path: string, sql: string): Promise<unknown> =>
    onSite(studio, path, async (query) => Object.values((await query(sql))[0] ?? {})[0]);

  // What is said there to the database is said in PostgreSQL's words.
  describe.skipIf(options.system === 'mariadb')('what random edits found', () => {
    beforeEach(() => site.restore());

    it('is that a colleague’s news stays news where another field of the row could not go', async () => {
      await run(ANY_COPY, 'UPDATE slot SET pos = 40 WHERE id = 1');
      await run(ANY_LIVE, 'UPDATE slot SET pos = 40 WHERE id = 2');
      await run(ANY_LIVE, "UPDATE slot SET label = 'said on live' WHERE id = 1");
      await run(ANY_COPY, "UPDATE tag SET label = 'goes' WHERE id = 1");
      const forecast = await forecastOf(studio, ANY_COPY, ANY_LIVE, { wishes: { rest: 'destination' } });
      await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: ANY_LIVE } }),
      );
      const news = await forecastOf(studio, ANY_LIVE, ANY_COPY);
      expect((await allItems(news.id)).map(({ id }) => id)).toContain('row:slot:1');
      await run(ANY_COPY, "UPDATE slot SET label = 'said on the copy' WHERE id = 1");
      const again = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      expect(again.unsettled, 'both ends changed the label').toBe(1);
    });

    it('is that positions are swapped where the other column of their index refers to something', async () => {
      await run(
        ANY_COPY,
        'UPDATE block SET pos = 9 WHERE id = 1; UPDATE block SET pos = 1 WHERE id = 2; UPDATE block SET pos = 2 WHERE id = 1',
      );
      const forecast = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: ANY_LIVE } }),
      );
      expect(await value(ANY_LIVE, "SELECT string_agg(pos::text, ' ' ORDER BY id) FROM block WHERE page_id = 1")).toBe(
        '2 1',
      );
    });

    it('is that a new thing may be named inside a value, whose number is another one there', async () => {
      for (const path of [ANY_COPY, ANY_LIVE])
        await run(path, `INSERT INTO page (uid, slug, meta) VALUES ('${path}', '${path}', '{"related": []}')`);
      await run(ANY_COPY, 'UPDATE page SET meta = \'{"related": [7]}\' WHERE id = 2');
      const forecast = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      expect(forecast.failure).toBeNull();
      const items = await allItems(forecast.id);
      expect(items.find(({ id }) => id === 'page:2')?.reason).toContain('there they get numbers of their own');
      await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: ANY_LIVE } }),
      );
      expect(
        await value(
          ANY_LIVE,
          "SELECT uid FROM page WHERE id = (SELECT (meta->'related'->>0)::int FROM page WHERE id = 2)",
        ),
      ).toBe(ANY_COPY);
    });

    it('is that whoever takes a transfer back is asked again what they had settled', async () => {
      await run(ANY_COPY, "UPDATE page SET title = 'of the copy' WHERE id = 1");
      await run(ANY_LIVE, "UPDATE page SET title = 'of live' WHERE id = 1");
      await run(ANY_COPY, "UPDATE tag SET label = 'goes' WHERE id = 1");
      const forecast = await forecastOf(studio, ANY_COPY, ANY_LIVE, { wishes: { rest: 'destination' } });
      const push = await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: ANY_LIVE } }),
      );
      expect((await forecastOf(studio, ANY_COPY, ANY_LIVE)).itemCount, 'nobody is asked twice').toBe(0);
      await done(studio, await undo(studio, push.id));
      const again = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      expect([again.itemCount, again.unsettled]).toEqual([2, 1]);
    });

    it('is that keys which spell live’s address in another way stay as they are, and nobody is told of a change', async () => {
      await run(ANY_COPY, "UPDATE tag SET label = 'goes' WHERE id = 1");
      const forecast = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      expect((await allItems(forecast.id)).map(({ id }) => id)).toEqual(['row:tag:1']);
      await run(ANY_COPY, "UPDATE redirect SET note = note || ' changed'");
      await done(
        studio,
        await studio.client.call('pushCreate', {
          body: { forecast: (await forecastOf(studio, ANY_COPY, ANY_LIVE)).id, confirm: ANY_LIVE },
        }),
      );
      expect(
        await value(ANY_LIVE, "SELECT string_agg(from_url || ' ' || note, ', ' ORDER BY note) FROM redirect"),
      ).toBe(
        'https://any.example:443/port four changed, https://any.example/own one changed, https://Any.Example/upper three changed, http://any.example/plain two changed',
      );
    });

    it('is that a column which differs in its type takes nothing from what is written', async () => {
      await run(ANY_COPY, 'ALTER TABLE badge ALTER code TYPE varchar(50)');
      await run(
        ANY_COPY,
        "UPDATE badge SET code = 'short' WHERE id = 1; INSERT INTO badge VALUES (2, 'newrow', 'Second')",
      );
      const forecast = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      await done(
        studio,
        await studio.client.call('pushCreate', { body: { forecast: forecast.id, confirm: ANY_LIVE } }),
      );
      expect(await value(ANY_LIVE, "SELECT string_agg(code, ' ' ORDER BY id) FROM badge")).toBe('short newrow');

      await run(ANY_COPY, "UPDATE badge SET code = 'longer than ten letters' WHERE id = 1");
      const { checks } = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      expect(checks.filter(({ state }) => state === 'failed').map(({ message }) => message)).toEqual([
        expect.stringContaining('badge'),
      ]);

      await run(ANY_COPY, 'ALTER TABLE badge ALTER code TYPE json USING to_json(code)');
      await run(ANY_COPY, `INSERT INTO badge VALUES (3, '"third"', 'Third')`);
      const other = await forecastOf(studio, ANY_COPY, ANY_LIVE);
      expect(other.checks.filter(({ state }) => state === 'failed').map(({ message }) => message)).toEqual([
        '1 new row of badge would have nothing in code, which is of another type on any/live.',
      ]);
      const without = await settled(studio, other.id, { except: ['table:badge'] });
      expect(without.checks.filter(({ state }) => state === 'failed')).toEqual([]);
    });
  });

  describe('a site merged at random', () => {
    it('becomes what a model of it says, round after round', { timeout: 60_000 + ROUNDS * 20_000 }, async () => {
      const failures: string[] = [];
      const histories = Math.ceil(ROUNDS / IN_HISTORY);
      for (let n = 0; n < histories; n++) {
        const told: string[] = [];
        try {
          await history(SEED * 1000 + n, Math.min(IN_HISTORY, ROUNDS - n * IN_HISTORY), told);
        } catch (error) {
          failures.push(
            `${String((error as Error).message).slice(0, 3000)}\n\nin history ${SEED * 1000 + n}:\n${told.join('\n')}`,
          );
          if (process.env.TESSARION_MERGE_GO_ON === undefined) break;
          await later(0);
        }
      }
      expect(failures.length, failures.join('\n\n')).toBe(0);
    });
  });
}
