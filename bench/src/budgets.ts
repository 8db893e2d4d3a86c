import { ended } from '@tessarion/demo';
import { type Budget, budgetOf, budgetText } from './budget.js';
import type { Installation } from './installation.js';
import {
  COPY,
  changeScattered,
  changeThree,
  changeWide,
  forecast,
  LIVE,
  type Pair,
  withPair,
} from './merge-workloads.js';
import type { Figure } from './workloads.js';

/** Where the time of the large workloads goes: each is run once after a first one that is not counted, but for the widest. */
export const budgets = (): Promise<Figure[]> =>
  withPair(async (pair) => {
    const figures: Figure[] = [];
    for (const [name, run] of Object.entries(BUDGETS)) figures.push(shown(name, await run(pair)));
    return figures;
  });

type Run = (pair: Pair) => Promise<Budget>;

export const BUDGETS: Readonly<Record<string, Run>> = {
  'forecast-nochange': async ({ on }) => {
    await forecast(on);
    return budgetOf(on, async (mark) => {
      await forecast(on);
      mark('forecast');
      return undefined;
    });
  },
  'push-3-rows': async (pair) => {
    await changeThree(pair, 100);
    await push(pair.on, () => undefined);
    await changeThree(pair, 101);
    return budgetOf(pair.on, (mark) => push(pair.on, mark));
  },
  'resync-0.1%': async ({ on }) => {
    await changeScattered(on, 100);
    await pull(on, () => undefined);
    await changeScattered(on, 101);
    return budgetOf(on, (mark) => pull(on, mark));
  },
  'merge-wide': async (pair) => {
    await changeWide(pair);
    return budgetOf(pair.on, (mark) => push(pair.on, mark));
  },
};

async function push(on: Installation, mark: (name: string) => void) {
  const id = await forecast(on);
  mark('forecast');
  const transfer = await on.client.call('pushCreate', { body: { forecast: id, confirm: LIVE } });
  await ended(on.client, transfer);
  return transfer;
}

async function pull(on: Installation, mark: (name: string) => void) {
  const id = await forecast(on, LIVE, COPY);
  mark('forecast');
  const transfer = await on.client.call('pullCreate', { body: { forecast: id } });
  await ended(on.client, transfer);
  return transfer;
}

const shown = (name: string, budget: Budget): Figure => ({
  name: `budget of ${name}`,
  ours_s: Math.round(budget.wall * 1000) / 1000,
  reference_s: null,
  ratio: null,
  peak_rss_mb: null,
  goal: '–',
  note: budgetText(budget)
    .split('\n')
    .join(`\n${' '.repeat(18)}`),
});
