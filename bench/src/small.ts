import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { bringIn, DEMO_SITES, ended, prepareStudio } from '@tessarion/demo';
import { onDatabase } from '@tessarion/demo-site';
import pg from 'pg';
import { type Installation, median, processorSeconds, seconds } from './installation.js';
import { forecast } from './merge-workloads.js';
import { type Figure, ROUNDS, withInstallation } from './workloads.js';

const [LIVE, COPY] = ['threadmill/live', 'threadmill/small'];
const PROFILES = fileURLToPath(new URL('../../packages/demo/profiles', import.meta.url));

/** What operations cost that have next to nothing to do: a forecast, push, pull, reset and clone of a site of a handful of rows. */
export const small = (): Promise<Figure[]> =>
  withInstallation(async (on) => {
    await prepareStudio(on.client, on.place, PROFILES);
    const site = DEMO_SITES.find(({ name }) => name === 'threadmill');
    if (!site) throw new Error('The demo has no site "threadmill".');
    await bringIn(on.client, on.place, site);
    const floor = await timed(on, () => oneCommit(on));
    const figures: Figure[] = [];
    const add = (name: string, { wall, processor }: Cost): void => {
      figures.push({
        name: `small-${name}`,
        ours_s: round(wall),
        reference_s: round(floor.wall),
        ratio: round(wall / floor.wall),
        peak_rss_mb: null,
        goal: GOALS[name] ?? '–',
        note: `processor time of all processes ${processor.toFixed(2)} s; by hand is one connection and one commit`,
      });
    };
    add('clone', await timed(on, () => clone(on)));
    add('forecast', await timed(on, () => forecast(on, COPY, LIVE), edit(on, 'small')));
    add('push', await timed(on, () => push(on), edit(on, 'small')));
    add('pull', await timed(on, () => pull(on), edit(on, 'live')));
    add('reset', await timed(on, () => reset(on), edit(on, 'small')));
    return figures;
  });

/** Half of what each cost when programs were not bundled and each question had a connection of its own. */
const GOALS: Readonly<Record<string, string>> = { forecast: 'half of before', push: 'half of before' };

interface Cost {
  readonly wall: number;
  readonly processor: number;
}

/** Medians of several runs, of which the first is not counted; `before` each run something is made ready. */
async function timed(
  on: Installation,
  run: () => Promise<unknown>,
  before: (round: number) => Promise<unknown> = async () => undefined,
): Promise<Cost> {
  const costs: Cost[] = [];
  for (let round = 0; round <= ROUNDS * 2; round++) {
    await before(round);
    const start = await processorSeconds(on);
    const wall = await seconds(run);
    costs.push({ wall, processor: (await processorSeconds(on)) - start });
  }
  const counted = costs.slice(1);
  return { wall: median(counted.map((one) => one.wall)), processor: median(counted.map((one) => one.processor)) };
}

const round = (value: number): number => Math.round(value * 1000) / 1000;

async function oneCommit({ server }: Installation): Promise<void> {
  const client = new pg.Client({ ...server, database: 'threadmill_live' });
  await client.connect();
  await client.query("UPDATE page SET position = position + 1 WHERE slug = 'visit'");
  await client.end();
}

/** A colleague changes a sentence. */
const edit =
  ({ hosts }: Installation, name: string) =>
  (round: number): Promise<void> =>
    onDatabase(join(hosts, `threadmill--${name}`), async (query) => {
      const slug = name === 'live' ? 'visit' : 'home';
      await query(`UPDATE page SET body = '<p>Round ${round} of ${name}.</p>' WHERE slug = '${slug}'`);
    });

let copies = 0;

/** Copies are made beside each other; the first keeps the name that the other operations work on. */
async function clone({ client }: Installation): Promise<void> {
  const name = copies++ === 0 ? 'small' : `small-${copies}`;
  await ended(
    client,
    await client.call('environmentCreate', { params: { site: 'threadmill' }, body: { name, kind: 'staging' } }),
  );
}

async function push(on: Installation): Promise<void> {
  const id = await forecast(on, COPY, LIVE);
  await ended(on.client, await on.client.call('pushCreate', { body: { forecast: id, confirm: LIVE } }));
}

async function pull(on: Installation): Promise<void> {
  const id = await forecast(on, LIVE, COPY);
  await ended(on.client, await on.client.call('pullCreate', { body: { forecast: id } }));
}

async function reset({ client }: Installation): Promise<void> {
  await ended(client, await client.call('resetCreate', { body: { from: LIVE, onto: COPY } }));
}
