import { type Client, ServiceProblem } from '@tessarion/client';
import type { RequestDetail } from '@tessarion/contract';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, it } from 'vitest';
import {
  addSite,
  done,
  ended,
  forecastOf,
  makeCopy,
  newcomer,
  onSite,
  type Studio,
  startStudio,
} from './support/studio.js';

const LIVE = 'threadmill/live';
const COPY = 'threadmill/staging';
const SLUGS = ['home', 'dye'] as const;
const RUNS = Number(process.env.TESSARION_APPROVAL_RUNS ?? 4);

let studio: Studio;
let author: Client;
let reviewer: Client;

beforeAll(async () => {
  studio = await startStudio();
  await addSite(studio);
  await makeCopy(studio, 'threadmill', 'staging');
  await studio.client.call('laneRule', {
    params: { site: 'threadmill', onto: 'live' },
    body: { approvals: 1, teams: [], threadsBlock: false },
  });
  author = await newcomer(studio, 'ida.moe@copperlane.example', 'editor', 'threadmill', 'Ida Moe');
  reviewer = await newcomer(studio, 'lise.aune@copperlane.example', 'reviewer', 'threadmill', 'Lise Aune');
}, 120_000);
afterAll(() => studio?.stop());

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
  let delivered = 0;
  const history = async (acts: readonly Act[]): Promise<void> => {
    await done(studio, await studio.client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
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
