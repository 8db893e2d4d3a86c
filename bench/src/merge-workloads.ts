import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { ended } from '@tessarion/demo';
import pg from 'pg';
import { makeBigSite } from './big-site.js';
import { byHand, type Installation, median, peakMegabytes, resetPeak, seconds } from './installation.js';
import {
  COPY_BY_HAND,
  cloneOnce,
  connection,
  type Figure,
  figure,
  lookedAt,
  packed,
  ROUNDS,
  scaled,
  withInstallation,
} from './workloads.js';

export const [LIVE, COPY] = ['threadmill/live', 'threadmill/copy'];

/** Both databases read whole, and the files compared by rsync: what a script must do to know that nothing changed. */
const READ_BY_HAND = `
for d in threadmill_live $COPY_DATABASE; do
  for t in article comment meta; do psql -q -d $d -c "COPY $t TO STDOUT" > /dev/null; done
done
rsync -an --delete $HOSTS/threadmill--live/main/ $HOSTS/threadmill--copy/main/ > /dev/null`;

export interface Pair {
  readonly on: Installation;
  readonly database: string;
  readonly pid: number;
}

/** A large site and a copy of it whose baseline is packed. */
export const withPair = <T>(work: (pair: Pair) => Promise<T>): Promise<T> =>
  withInstallation(async (on) => {
    await makeBigSite(on, 'threadmill', scaled);
    await packed(on, 'threadmill', (await cloneOnce(on, 'threadmill', 'copy')).transfer);
    await lookedAt(on, 'threadmill', 'copy');
    const shown = await on.client.call('environmentShow', { params: { site: 'threadmill', environment: 'copy' } });
    const pid = await on.workerPid();
    await resetPeak(pid);
    return work({ on, database: shown.databases[0] as string, pid });
  });

/** Makes a forecast and waits for it. @returns its id */
export async function forecast(on: Installation, from = COPY, onto = LIVE): Promise<string> {
  const { id } = await on.client.call('forecastCreate', { body: { from, onto } });
  const started = Date.now();
  for (;;) {
    const { state, failure } = await on.client.call('forecastShow', { params: { id } });
    if (state === 'failed') throw new Error(failure?.message);
    if (state === 'ready') return id;
    // Whoever waits long asks seldom: answers take the time of the same processors.
    await new Promise((resolve) => setTimeout(resolve, Date.now() - started < 1000 ? 20 : 100));
  }
}

const push = async (on: Installation): Promise<void> => {
  const id = await forecast(on);
  await ended(on.client, await on.client.call('pushCreate', { body: { forecast: id, confirm: LIVE } }));
};

const pull = async (on: Installation): Promise<void> => {
  const id = await forecast(on, LIVE, COPY);
  await ended(on.client, await on.client.call('pullCreate', { body: { forecast: id } }));
};

export const onCopy = ({ on, database }: Pair, ...statements: string[]): Promise<void> =>
  inDatabase(on, database, ...statements);

export async function inDatabase(on: Installation, database: string, ...statements: string[]): Promise<void> {
  const client = new pg.Client({ ...on.server, database });
  await client.connect();
  for (const sql of statements) await client.query(sql);
  await client.end();
}

/** Three rows of the copy. */
export const changeThree = (pair: Pair, round: number): Promise<void> =>
  onCopy(pair, `UPDATE article SET title = 'Changed ${round}' WHERE id IN (1, 2000, 30000)`);

/** One row and one file in a thousand of live, scattered. */
export async function changeScattered(on: Installation, round: number): Promise<void> {
  await inDatabase(
    on,
    'threadmill_live',
    `UPDATE article SET title = title || '.' WHERE id % 1000 = ${round}`,
    `UPDATE comment SET body = body || '.' WHERE id % 1000 = ${round}`,
    `UPDATE meta SET key = key || '.' WHERE id % 1000 = ${round}`,
  );
  for (let i = round; i < scaled.files; i += 1000)
    await fs.appendFile(join(on.hosts, 'threadmill--live/main', String(i % 200), `${i}.bin`), 'x');
}

const WIDE = { rows: Math.round(scaled.rows / 10), files: Math.round(scaled.files / 4) };

/** A tenth of all rows of the copy, and a quarter of its files. */
export async function changeWide(pair: Pair): Promise<void> {
  await onCopy(pair, `UPDATE article SET title = title || '.' WHERE id <= ${WIDE.rows}`);
  for (let i = 0; i < WIDE.files; i++)
    await fs.appendFile(join(pair.on.hosts, 'threadmill--copy/main', String(i % 200), `${i}.bin`), 'x');
}

const DATA = `${scaled.files} files, ${scaled.rows} rows`;

export const forecastNoChange = (): Promise<Figure> =>
  withPair(async ({ on, database, pid }) => {
    await forecast(on);
    const [ours, hand]: [number[], number[]] = [[], []];
    for (let round = 0; round < ROUNDS; round++) {
      hand.push(await byHand(READ_BY_HAND, { ...connection(on), COPY_DATABASE: database }));
      ours.push(await seconds(() => forecast(on)));
    }
    return figure('forecast-nochange', median(ours), median(hand), await peakMegabytes(pid), '≤ 0.5', DATA);
  });

export const pushThreeRows = (): Promise<Figure> =>
  withPair(async (pair) => {
    const { on, pid } = pair;
    const [ours, hand]: [number[], number[]] = [[], []];
    for (let round = 0; round < ROUNDS; round++) {
      hand.push(await byHand(COPY_BY_HAND, { ...connection(on), COPY: `by_hand_${round}` }));
      await changeThree(pair, round);
      ours.push(await seconds(() => push(on)));
    }
    const note = `${DATA}; forecast and push`;
    return figure('push-3-rows', median(ours), median(hand), await peakMegabytes(pid), '≤ 0.1', note);
  });

export const mergeWide = (): Promise<Figure> =>
  withPair(async (pair) => {
    const { on, pid } = pair;
    const hand = await byHand(COPY_BY_HAND, { ...connection(on), COPY: 'by_hand' });
    await changeWide(pair);
    const took = await seconds(() => push(on));
    const note = `${WIDE.rows} changed rows, ${WIDE.files} changed files; forecast and push`;
    return figure('merge-wide', took, hand, await peakMegabytes(pid), '≤ 1.0', note);
  });

/** One row and one file in a thousand, scattered, changed on live since: a copy is brought up to date again. */
export const resync = (): Promise<Figure> =>
  withPair(async ({ on, pid }) => {
    const [ours, hand]: [number[], number[]] = [[], []];
    for (let round = 0; round < ROUNDS; round++) {
      hand.push(await byHand(COPY_BY_HAND, { ...connection(on), COPY: `by_hand_${round}` }));
      await changeScattered(on, round);
      ours.push(await seconds(() => pull(on)));
    }
    const [first, ...next] = ours as [number, ...number[]];
    const note = `${DATA}; first ${first.toFixed(1)} s (${(first / median(hand)).toFixed(2)} x), then as shown; forecast and pull`;
    const took = next.length > 0 ? median(next) : first;
    return figure('resync-0.1%', took, median(hand), await peakMegabytes(pid), '≤ 0.35, then 0.25', note);
  });
