import { existsSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import {
  type ColumnTreatment,
  LineRewriter,
  materialiseLines,
  type Place,
  parseLocation,
  Rewriter,
} from '@tessarion/core';
import { ended, visit } from '@tessarion/demo';
import { installSite } from '@tessarion/demo-site';
import pg from 'pg';
import { ADDRESS, FULL, makeBigSite, PROFILE } from './big-site.js';
import {
  adopt,
  byHand,
  type Installation,
  median,
  newDatabase,
  peakMegabytes,
  resetPeak,
  seconds,
  startInstallation,
} from './installation.js';

/** One measured workload; `reference_s` is the script that a person would write by hand. */
export interface Figure {
  readonly name: string;
  readonly ours_s: number;
  readonly reference_s: number | null;
  readonly ratio: number | null;
  readonly peak_rss_mb: number | null;
  readonly goal: string;
  readonly note: string;
}

export const ROUNDS = Number(process.env.BENCH_ROUNDS ?? 3);
const SCALE = Number(process.env.BENCH_SCALE ?? 1);
export const scaled = { files: Math.round(FULL.files * SCALE), rows: Math.round(FULL.rows * SCALE) };

export async function withInstallation<T>(work: (on: Installation) => Promise<T>): Promise<T> {
  const on = await startInstallation(join(tmpdir(), `tessarion-bench-${process.pid}`));
  try {
    await on.client.call('profileSave', { params: { name: 'big' }, body: { text: PROFILE }, etag: null });
    return await work(on);
  } finally {
    await on.stop();
  }
}

export const connection = (on: Installation): Record<string, string> => ({
  PGHOST: on.server.host,
  PGPORT: String(on.server.port),
  PGUSER: on.server.user,
  PGPASSWORD: on.server.password,
  HOSTS: on.hosts,
});

/** rsync, and pg_dump through sed into psql: how a copy is made by hand. Lengths of serialised values come out wrong. */
export const COPY_BY_HAND = `
createdb $COPY
mkdir -p $HOSTS/$COPY
rsync -a --delete $HOSTS/threadmill--live/main/ $HOSTS/$COPY/
pg_dump --no-owner threadmill_live | sed 's#${ADDRESS}#http://threadmill--staging.localhost:7400#g' | psql -q -d $COPY -o /dev/null`;

interface CloneTimes {
  /** Until the copy answers at its address, and until its statistics are fresh and its tasks have run. */
  readonly answers: number;
  readonly ends: number;
  readonly transfer: string;
}

export async function cloneOnce(on: Installation, site: string, name: string): Promise<CloneTimes> {
  const created = await on.client.call('environmentCreate', { params: { site }, body: { name, kind: 'staging' } });
  const ends = await seconds(() => ended(on.client, created));
  const { createdAt, steps } = await on.client.call('transferShow', { params: { id: created.id } });
  const published = steps.find((step) => step.name === 'publish')?.endedAt ?? '';
  return { answers: (Date.parse(published) - Date.parse(createdAt)) / 1000, ends, transfer: created.id };
}

/** Waits until the baseline of a copy is packed: then its spool is gone. */
export async function packed(on: Installation, site: string, transfer: string): Promise<void> {
  const spool = join(on.data, 'tessarion/stores', site, 'spools', transfer);
  while (
    await fs.stat(spool).then(
      () => true,
      () => false,
    )
  )
    await new Promise((resolve) => setTimeout(resolve, 100));
}

/** Waits until the service has looked at a copy by itself: its first comparison is made then, where much is to be read. */
export async function lookedAt({ data }: Installation, site: string, copy: string): Promise<void> {
  const known = join(data, `tessarion/changes/${site}--${copy}+${site}--live.sealed`);
  while (scaled.rows + scaled.files > SMALL && !existsSync(known))
    await new Promise((resolve) => setTimeout(resolve, 100));
}

/** Copies of so many rows and files are not looked at by themselves. */
const SMALL = 20_000;

/**
 * Copies are kept until the end, on both sides: making files is many times slower for a minute after as many were
 * deleted (ext4 passes over the inodes of recently deleted ones), and whoever came second would pay for it.
 */
export const clone = (): Promise<Figure> =>
  withInstallation(async (on) => {
    await makeBigSite(on, 'threadmill', scaled);
    const [answers, ends, packs, looks, hand]: number[][] = [[], [], [], [], []];
    const pid = await on.workerPid();
    await resetPeak(pid);
    for (let round = 0; round < ROUNDS; round++) {
      hand?.push(await byHand(COPY_BY_HAND, { ...connection(on), COPY: `by_hand_${round}` }));
      const times = await cloneOnce(on, 'threadmill', `copy${round}`);
      packs?.push(await seconds(() => packed(on, 'threadmill', times.transfer)));
      looks?.push(await seconds(() => lookedAt(on, 'threadmill', `copy${round}`)));
      answers?.push(times.answers);
      ends?.push(times.ends);
    }
    return figure(
      'clone',
      median(answers as number[]),
      median(hand as number[]),
      await peakMegabytes(pid),
      '≤ 0.8',
      `${scaled.files} files, ${scaled.rows} rows; answers after ${median(answers as number[]).toFixed(1)} s, ends after ${median(ends as number[]).toFixed(1)} s, baseline packed ${median(packs as number[]).toFixed(1)} s later, looked at ${median(looks as number[]).toFixed(1)} s after that`,
    );
  });

export const memory = (): Promise<Figure> =>
  withInstallation(async (on) => {
    const pid = await on.workerPid();
    const peaks: number[] = [];
    let took = 0;
    for (const [name, size] of [
      ['single', scaled],
      ['fourfold', { files: scaled.files * 4, rows: scaled.rows * 4 }],
    ] as const) {
      await makeBigSite(on, name, size);
      await resetPeak(pid);
      const times = await cloneOnce(on, name, 'copy');
      took = times.ends;
      await packed(on, name, times.transfer);
      await lookedAt(on, name, 'copy');
      peaks.push(await peakMegabytes(pid));
    }
    return figure(
      'memory',
      took,
      null,
      Math.max(...peaks),
      'peak ≤ 350 MB at 1× and 4×',
      `${peaks.map((one) => `${one.toFixed(0)} MB`).join(' at 1×, ')} at 4×`,
    );
  });

export const snapshots = (): Promise<Figure> =>
  withInstallation(async (on) => {
    await makeBigSite(on, 'threadmill', scaled);
    const client = new pg.Client({ ...on.server, database: 'threadmill_live' });
    await client.connect();
    const times: number[] = [];
    for (let i = 0; i < 10; i++) {
      if (i > 0) {
        await client.query(`UPDATE article SET title = title || '.' WHERE id % 1000 = $1`, [i]);
        await client.query(`UPDATE comment SET body = body || '.' WHERE id % 1000 = $1`, [i]);
        for (let k = 0; k < scaled.files / 1000; k++)
          await fs.appendFile(
            join(on.hosts, 'threadmill--live/main', String((i * 7 + k) % 200), `${(i * 7 + k) % 200}.bin`),
            'x',
          );
      }
      times.push(
        await seconds(async () =>
          ended(on.client, await on.client.call('snapshotTake', { body: { environment: 'threadmill/live' } })),
        ),
      );
    }
    await client.end();
    const list = await on.client.call('snapshotList');
    const added = list.map((one) => one.addedBytes).toReversed();
    const space = added.reduce((sum, one) => sum + one, 0) / (added[0] as number);
    const next = median(times.slice(1));
    return figure(
      'snapshot-10',
      next,
      times[0] as number,
      null,
      'space ≤ 1.25 × one, next ≤ 0.5 × first',
      `ten take ${space.toFixed(3)} × the space of one (${((added[0] as number) / 1e6).toFixed(0)} MB); reference: the first snapshot`,
    );
  });

const COLUMNS: ColumnTreatment[] = ['id', 'title', 'body', 'at', 'more'].map((name) => ({
  name,
  rewrite: true,
  reach: { bareHosts: false, rootPaths: false },
}));

export async function rewrite(): Promise<Figure> {
  const at = (url: string): Place => ({ addresses: [{ name: 'main', ...parseLocation(url), aliases: [] }], roots: [] });
  const rates: string[] = [];
  let worst = 0;
  for (const share of [0.01, 0.7]) {
    const chunks: Buffer[] = [];
    let lines = '';
    for (let i = 0; i < 400_000; i++) {
      const body =
        (i * 7919) % 1000 < share * 1000
          ? `see <a href="${ADDRESS}/p/${i}">it</a> and more`
          : 'lorem ipsum dolor sit amet consetetur sadipscing';
      lines += `${i}\tTitle of row ${i}\t${body}\t2026-01-01 10:00:00+00\tsome more text that fills the row up ${i}\n`;
      if (lines.length > 60_000) {
        chunks.push(Buffer.from(lines, 'latin1'));
        lines = '';
      }
    }
    const bytes = chunks.reduce((sum, one) => sum + one.length, 0);
    const times: number[] = [];
    for (let round = 0; round < 5; round++) {
      const lineRewriter = new LineRewriter(new Rewriter(at(ADDRESS)), COLUMNS);
      const there = new Rewriter(at('http://threadmill--staging.localhost:7400'));
      times.push(
        await seconds(async () => {
          for (const chunk of chunks)
            Buffer.from(materialiseLines(lineRewriter.canonicalise(chunk.toString('latin1')), there), 'latin1');
        }),
      );
    }
    worst = median(times);
    rates.push(`${(bytes / 1e6 / worst).toFixed(0)} MB/s at ${share * 100} %`);
  }
  return figure(
    'rewrite',
    worst,
    null,
    null,
    '≥ 150 MB/s at 1 %, ≥ 60 MB/s at 70 %',
    `${rates.join(', ')}; to canonical form and on to the copy's, one core`,
  );
}

/** A shop of 6,000 products, with a staging copy. */
export async function installShop(on: Installation): Promise<void> {
  const profile = await fs.readFile(new URL('../../packages/demo/profiles/quayside.yaml', import.meta.url), 'utf8');
  await on.client.call('profileSave', { params: { name: 'quayside' }, body: { text: profile }, etag: null });
  const address = `http://shop.localhost:${on.gatewayPort}`;
  await newDatabase(on, 'shop_live');
  await installSite({
    folder: join(on.hosts, 'shop--live'),
    format: 'env',
    baseUrl: address,
    database: { host: on.server.host, port: on.server.port, name: 'shop_live', user: 'shop_live', password: 'bench' },
    content: {
      title: 'Shop',
      colour: '#333',
      pages: [{ slug: 'home', title: 'Home', body: 'x' }],
      products: Array.from({ length: 6000 }, (_one, i) => ({
        slug: `p${i}`,
        title: `Product ${i}`,
        description: 'A thing',
        price: '10.00',
        stock: 1000,
      })),
    },
  });
  await adopt(on, 'shop', 'quayside', address);
  await cloneOnce(on, 'shop', 'staging');
}

/** Pushes of 1, 100 and 5,000 rows while visitors send 50 requests a second. */
export const pushUnderLoad = (): Promise<Figure> =>
  withInstallation(async (on) => {
    await installShop(on);
    const copy = (await on.client.call('environmentShow', { params: { site: 'shop', environment: 'staging' } }))
      .databases[0] as string;
    const onCopy = new pg.Client({ ...on.server, database: copy });
    const onLive = new pg.Client({ ...on.server, database: 'shop_live' });
    await Promise.all([onCopy.connect(), onLive.connect()]);
    let [sent, failed, longest, turn] = [0, 0, 0, 0];
    const timer = setInterval(() => {
      const start = performance.now();
      turn++;
      sent++;
      visit(on.gatewayPort, 'shop.localhost', '/order', {
        product: String(1 + (turn % 6000)),
        name: 'Aud',
        email: 'aud@post.example',
        quantity: '1',
      }).then(
        (answer) => {
          if (answer.status !== 200) failed++;
          longest = Math.max(longest, performance.now() - start);
        },
        () => failed++,
      );
    }, 20);
    const holds: string[] = [];
    let took = 0;
    for (const rows of [1, 100, 5000]) {
      // What the statement costs by itself beside the same visitors: no hold can be shorter.
      const alone =
        1000 * (await seconds(() => onCopy.query('UPDATE product SET price = price + 1 WHERE id <= $1', [rows])));
      const { id } = await on.client.call('forecastCreate', { body: { from: 'shop/staging', onto: 'shop/live' } });
      while ((await on.client.call('forecastShow', { params: { id } })).state === 'computing')
        await new Promise((resolve) => setTimeout(resolve, 20));
      const transfer = await on.client.call('pushCreate', { body: { forecast: id, confirm: 'shop/live' } });
      took = await seconds(() => ended(on.client, transfer));
      const shown = await on.client.call('transferShow', { params: { id: transfer.id } });
      holds.push(
        `${rows} rows ${/(\d+) ms/.exec(shown.steps.find((step) => step.name === 'release')?.detail ?? '')?.[1]} ms (the statement alone ${alone.toFixed(0)})`,
      );
    }
    clearInterval(timer);
    await new Promise((resolve) => setTimeout(resolve, 1000));
    const [orders] = (
      await onLive.query(
        'SELECT (SELECT count(*) FROM purchase)::int AS orders, (SELECT sum(1000 - stock) FROM product)::int AS sold',
      )
    ).rows as { orders: number; sold: number }[];
    await Promise.all([onCopy.end(), onLive.end()]);
    return figure(
      'push-under-load',
      took,
      null,
      null,
      '0 failed, 0 lost, longest hold ≤ 150 ms',
      `${sent} requests, ${failed} failed; ${orders?.orders} orders kept, ${sent - failed - (orders?.orders ?? 0)} lost, stock off by ${sent - failed - (orders?.sold ?? 0)}; held: ${holds.join(', ')}; slowest answer ${longest.toFixed(0)} ms`,
    );
  });

export function figure(
  name: string,
  ours: number,
  reference: number | null,
  peak: number | null,
  goal: string,
  note: string,
): Figure {
  const round = (value: number): number => Math.round(value * 1000) / 1000;
  return {
    name,
    ours_s: round(ours),
    reference_s: reference === null ? null : round(reference),
    ratio: reference === null ? null : round(ours / reference),
    peak_rss_mb: peak === null ? null : Math.round(peak),
    goal,
    note,
  };
}
