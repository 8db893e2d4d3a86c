import { type Client, ServiceProblem } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { KeptSite } from './support/kept-site.js';
import { comeIn, ended, forecastOf, newcomer, onSite, type Studio, startStudio } from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const SLUGS = ['home', 'dye'] as const;
const RUNS = Number(process.env.TESSARION_APPROVAL_RUNS ?? 4);

let studio: Studio;
let kept: KeptSite;
let author: Client;
let reviewer: Client;

beforeAll(async () => {
  studio = await startStudio('staging');
  author = await newcomer(studio, 'ida.moe@copperlane.example', 'editor', 'threadmill', 'Ida Moe');
  reviewer = await newcomer(studio, 'lise.aune@copperlane.example', 'reviewer', 'threadmill', 'Lise Aune');
  kept = await KeptSite.of(studio, LIVE, COPY);
}, 120_000);
afterAll(() => studio?.stop());

/** Onto live one reviewer must approve, and so many guests. */
const rule = (guests: 0 | 1): Promise<unknown> =>
  studio.client.call('laneRule', {
    params: { site: 'threadmill', onto: 'live' },
    body: { approvals: 1, teams: [], threadsBlock: false, guests },
    etag: '*',
  });

type Act =
  | { readonly act: 'edit'; readonly slug: (typeof SLUGS)[number] }
  | { readonly act: 'look' | 'ask' | 'approve' | 'return' | 'deliver' };

const act: fc.Arbitrary<Act> = fc.oneof(
  { weight: 3, arbitrary: fc.record({ act: fc.constant('edit' as const), slug: fc.constantFrom(...SLUGS) }) },
  {
    weight: 7,
    arbitrary: fc.record({
      act: fc.constantFrom('look', 'look', 'ask', 'approve', 'approve', 'return', 'deliver', 'deliver'),
    }) as fc.Arbitrary<Act>,
  },
);

const titles = (path: string): Promise<Record<string, string>> =>
  onSite(studio, path, async (query) =>
    Object.fromEntries(
      (await query('SELECT slug, title FROM page WHERE slug = ANY ($1)', [[...SLUGS]])).map((row) => [
        String(row.slug),
        String(row.title),
      ]),
    ),
  );

/** Does something that may be refused in the state at hand. */
async function tried(call: () => Promise<unknown>): Promise<boolean> {
  try {
    await call();
    return true;
  } catch (error) {
    if (error instanceof ServiceProblem) return false;
    throw error;
  }
}

async function settled(id: string): Promise<RequestDetail> {
  for (;;) {
    const now = await author.call('requestShow', { params: { id } });
    if (now.revising === null && now.state !== 'delivering') return now;
    if (now.transfer && now.state === 'delivering') await ended(studio, { id: now.transfer });
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
}

let turn = 0;

it('lets nothing onto live that no reviewer has seen as it is, over histories through the service itself', async () => {
  await rule(0);
  let delivered = 0;
  const history = async (acts: readonly Act[]): Promise<void> => {
    await kept.restore();
    const edit = (slug: string): Promise<unknown> =>
      onSite(studio, COPY, (query) => query('UPDATE page SET title = $1 WHERE slug = $2', [`Turn ${++turn}`, slug]));
    await edit('dye');
    const forecast = await forecastOf(studio, COPY, LIVE);
    const { id } = await author.call('requestOpen', { body: { forecast: forecast.id, title: 'A history' } });
    // What the last look found, and every title that the reviewer approved of.
    let looked = await titles(COPY);
    const approved = new Set(Object.values(await titles(LIVE)));
    for (const one of acts) {
      const params = { id };
      const before = await titles(LIVE);
      const now = await settled(id);
      if (one.act === 'edit') await edit(one.slug);
      else if (one.act === 'look') {
        const found = await titles(COPY);
        if (await tried(() => author.call('requestRevise', { params, body: {} }))) {
          await settled(id);
          looked = found;
        }
      } else if (one.act === 'ask') await tried(() => author.call('requestAsk', { params }));
      else if (one.act === 'deliver') {
        const body = { when: 'now', confirm: LIVE } as const;
        const isBegun = await tried(() => studio.client.call('requestDeliver', { params, body }));
        const after = await settled(id);
        const live = await titles(LIVE);
        if (isBegun && after.state === 'delivered') {
          delivered++;
          expect(live).toEqual(looked);
          for (const title of Object.values(live)) expect([...approved]).toContain(title);
          return;
        }
        expect(live).toEqual(before);
      } else {
        const body = { says: one.act, revision: now.revision, words: 'As it is.' };
        const isSaid = await tried(() => reviewer.call('verdictGive', { params, body }));
        if (isSaid && one.act === 'approve') for (const title of Object.values(looked)) approved.add(title);
      }
      if (one.act !== 'deliver') expect(await titles(LIVE)).toEqual(before);
    }
    await tried(() => author.call('requestWithdraw', { params: { id }, body: { reason: 'The history is over.' } }));
  };
  await fc.assert(fc.asyncProperty(fc.array(act, { minLength: 6, maxLength: 14 }), history), {
    numRuns: RUNS,
    endOnFailure: true,
  });
  // One that goes all the way, and one in which an edit comes between approval and delivery.
  await history([{ act: 'ask' }, { act: 'approve' }, { act: 'deliver' }]);
  const before = delivered;
  expect(before).toBeGreaterThan(0);
  await history([{ act: 'ask' }, { act: 'approve' }, { act: 'edit', slug: 'dye' }, { act: 'deliver' }]);
  expect(delivered).toBe(before);
});

/** Things that two requests want, one of which both want. */
const WANTED = [
  ['page:1', 'page:2'],
  ['page:2', 'product:1'],
] as const;
const ROWS = { 'page:1': 'page', 'page:2': 'page', 'product:1': 'product' } as const;
type Thing = keyof typeof ROWS;

/** What some things are called at an environment. */
const namesAt = (path: string, things: readonly Thing[]): Promise<Record<string, string>> =>
  onSite(studio, path, async (query) => {
    const names: Record<string, string> = {};
    for (const thing of things) {
      const [row] = await query(`SELECT title FROM ${ROWS[thing]} WHERE id = $1`, [thing.split(':')[1]]);
      names[thing] = String(row?.title);
    }
    return names;
  });

type JointAct =
  | { readonly act: 'edit'; readonly thing: Thing }
  | {
      readonly act: 'look' | 'ask' | 'approve' | 'preview' | 'yes' | 'deliver' | 'yield' | 'withdraw';
      readonly at: 0 | 1;
    };

const jointAct: fc.Arbitrary<JointAct> = fc.oneof(
  {
    weight: 2,
    arbitrary: fc.record({
      act: fc.constant('edit' as const),
      thing: fc.constantFrom(...(Object.keys(ROWS) as Thing[])),
    }),
  },
  {
    weight: 9,
    arbitrary: fc.record({
      act: fc.constantFrom(
        'look',
        'look',
        'ask',
        'approve',
        'approve',
        'preview',
        'yes',
        'deliver',
        'deliver',
        'yield',
        'withdraw',
      ),
      at: fc.constantFrom(0, 1),
    }) as fc.Arbitrary<JointAct>,
  },
);

/** A request as the model knows it. */
interface Modelled {
  readonly id: string;
  readonly things: readonly Thing[];
  readonly guest: Client;
  looked: Record<string, string>;
  readonly approved: Set<string>;
  /** What stood in the preview when the guest said yes, read from the preview itself. */
  readonly agreed: Set<string>;
  isOver: boolean;
}

const both = Object.keys(ROWS) as Thing[];

/**
 * Plays a history of two requests that want one thing, and holds it against the model after each act.
 *
 * @param guests how many must say yes
 * @returns how many were delivered
 */
async function play(acts: readonly JointAct[], guests: 0 | 1): Promise<number> {
  await kept.restore();
  await rule(guests);
  const edit = (thing: Thing): Promise<unknown> =>
    onSite(studio, COPY, (query) =>
      query(`UPDATE ${ROWS[thing]} SET title = $1 WHERE id = $2`, [`Turn ${++turn}`, thing.split(':')[1]]),
    );
  for (const thing of both) await edit(thing);
  const requests: Modelled[] = [];
  for (const things of WANTED) {
    const forecast = await forecastOf(studio, COPY, LIVE, { wishes: { only: [...things] } });
    const { id } = await author.call('requestOpen', {
      body: { forecast: forecast.id, title: things.join(), waitInLine: true },
    });
    const { url } = await author.call('guestInvite', {
      params: { site: 'threadmill' },
      body: { name: 'Vera Lund', looks: [{ request: id }] },
    });
    const guest = await comeIn(studio, url);
    const looked = await namesAt(COPY, things);
    requests.push({ id, things, guest, looked, approved: new Set(), agreed: new Set(), isOver: false });
  }
  /** Who holds what both want. */
  let first = requests[0] as Modelled;
  let begun = 0;
  for (const one of acts) {
    const before = await namesAt(LIVE, both);
    if (one.act === 'edit') {
      await edit(one.thing);
      continue;
    }
    const request = requests[one.at] as Modelled;
    const other = requests[1 - one.at] as Modelled;
    const params = { id: request.id };
    const now = await settled(request.id);
    if (one.act === 'look') {
      const found = await namesAt(COPY, request.things);
      if (await tried(() => author.call('requestRevise', { params, body: {} }))) {
        await settled(request.id);
        request.looked = found;
      }
    } else if (one.act === 'ask') await tried(() => author.call('requestAsk', { params }));
    else if (one.act === 'approve') {
      const body = { says: 'approve', revision: now.revision } as const;
      if (await tried(() => reviewer.call('verdictGive', { params, body })))
        for (const name of Object.values(request.looked)) request.approved.add(name);
    } else if (one.act === 'preview')
      await tried(async () => ended(studio, await author.call('previewMake', { params })));
    else if (one.act === 'yes') {
      const { preview } = now;
      const body = { revision: preview?.revision ?? 1 };
      const shown = preview?.state === 'ready' ? await namesAt(preview.environment, request.things) : {};
      if (await tried(() => request.guest.call('guestApprove', { params: { position: 0 }, body })))
        for (const name of Object.values(shown)) request.agreed.add(name);
    } else if (one.act === 'yield') {
      if (await tried(() => author.call('claimYield', { params, body: { items: ['page:2'] } }))) first = other;
    } else if (one.act === 'withdraw') {
      if (await tried(() => author.call('requestWithdraw', { params, body: { reason: 'Not now.' } }))) {
        request.isOver = true;
        if (!other.isOver) first = other;
      }
    } else {
      const body = { when: 'now', confirm: LIVE } as const;
      const isBegun = await tried(() => studio.client.call('requestDeliver', { params, body }));
      const after = await settled(request.id);
      const live = await namesAt(LIVE, both);
      if (!isBegun || after.state !== 'delivered') {
        expect(live).toEqual(before);
        continue;
      }
      begun++;
      // Nothing goes that somebody else has claimed, nothing but its own, and nothing that was not seen.
      expect(first.id === request.id || other.isOver).toBe(true);
      expect(live).toEqual({ ...before, ...request.looked });
      for (const thing of request.things)
        if (live[thing] !== before[thing]) {
          expect([...request.approved]).toContain(live[thing]);
          if (guests > 0) expect([...request.agreed]).toContain(live[thing]);
        }
      request.isOver = true;
      if (!other.isOver) first = other;
    }
    if (one.act !== 'deliver') expect(await namesAt(LIVE, both)).toEqual(before);
  }
  for (const { id } of requests)
    await tried(() => author.call('requestWithdraw', { params: { id }, body: { reason: 'The history is over.' } }));
  return begun;
}

describe('two requests that want one thing', () => {
  const at = (act: Exclude<JointAct['act'], 'edit'>, which: 0 | 1): JointAct => ({ act, at: which });
  const all = (which: 0 | 1): JointAct[] => [at('ask', which), at('approve', which), at('deliver', which)];
  const withGuest = [at('ask', 0), at('approve', 0), at('preview', 0), at('yes', 0)];
  const edited: JointAct[] = [...withGuest, { act: 'edit', thing: 'page:1' }, at('look', 0), at('approve', 0)];

  it.each<readonly [string, JointAct[], 0 | 1, number]>([
    ['the second waits for the first', all(1), 0, 0],
    ['the second goes once the first is live', [...all(0), at('look', 1), ...all(1)], 0, 2],
    ['the second goes when the first lets it', [at('yield', 0), ...all(1)], 0, 1],
    ['the second goes when the first is withdrawn', [at('withdraw', 0), ...all(1)], 0, 1],
    ['none goes without the yes of a guest that is wanted', all(0), 1, 0],
    ['one goes with the yes of a guest', [...withGuest, at('deliver', 0)], 1, 1],
    ['the yes of a guest falls with what it was said of', [...edited, at('deliver', 0)], 1, 0],
  ])('%s', async (_says, acts, guests, delivered) => {
    expect(await play(acts, guests)).toBe(delivered);
  });

  it('keep claims, colleagues and guests, whatever is done', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(jointAct, { minLength: 8, maxLength: 16 }),
        fc.constantFrom(0 as const, 1 as const),
        async (acts, guests) => void (await play(acts, guests)),
      ),
      { numRuns: Math.ceil(RUNS / 2), endOnFailure: true },
    );
  });
});
