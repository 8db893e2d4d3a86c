import * as fs from 'node:fs/promises';
import type { Transfer } from '@tessarion/contract';
import pg from 'pg';
import { type Installation, processorSecondsOf, seconds } from './installation.js';

/** What one run of a workload costs, and where: parts that follow each other add up to the whole. */
export interface Budget {
  readonly wall: number;
  /** Seconds by what was done, one after the other. */
  readonly parts: readonly (readonly [name: string, seconds: number])[];
  /** Processor seconds by process. */
  readonly processor: Readonly<Record<string, number>>;
  /** Transactions that were committed, and how often the disk was waited for, by database server. */
  readonly commits: Readonly<Record<string, { readonly transactions: number; readonly syncs: number }>>;
}

/**
 * Runs something and tells what it cost.
 *
 * @param run gives the transfer that it waited for, whose recorded steps are the parts of its time
 */
export async function budgetOf(
  on: Installation,
  run: (mark: (name: string) => void) => Promise<Transfer | undefined>,
): Promise<Budget> {
  const before = await counted(on);
  const parts: [string, number][] = [];
  let last = process.hrtime.bigint();
  const mark = (name: string): void => {
    const now = process.hrtime.bigint();
    parts.push([name, Number(now - last) / 1e9]);
    last = now;
  };
  let transfer: Transfer | undefined;
  const wall = await seconds(async () => {
    transfer = await run(mark);
  });
  if (transfer) {
    const { steps, startedAt, endedAt } = await on.client.call('transferShow', { params: { id: transfer.id } });
    const took = (from: string | null, to: string | null): number =>
      (Date.parse(to ?? '') - Date.parse(from ?? '')) / 1000;
    const began = steps[0]?.startedAt ?? null;
    parts.push(['claim', took(startedAt, began)]);
    for (const step of steps) parts.push([step.name, took(step.startedAt, step.endedAt)]);
    parts.push(['end', took(steps.at(-1)?.endedAt ?? null, endedAt)]);
  }
  const named = parts.reduce((sum, [, took]) => sum + took, 0);
  parts.push(['asking and hearing of it', wall - named]);
  const after = await counted(on);
  const processor = Object.fromEntries(
    Object.entries(after.processor).map(([name, value]) => [name, value - (before.processor[name] ?? 0)]),
  );
  const commits = Object.fromEntries(
    Object.entries(after.commits).map(([name, { transactions, syncs }]) => {
      const then = before.commits[name];
      return [name, { transactions: transactions - (then?.transactions ?? 0), syncs: syncs - (then?.syncs ?? 0) }];
    }),
  );
  return { wall, parts, processor, commits };
}

/** A budget as lines of text. */
export function budgetText({ wall, parts, processor, commits }: Budget): string {
  const ms = (value: number): string => `${Math.round(value * 1000)} ms`;
  const list = (of: readonly (readonly [string, number])[]): string =>
    of.flatMap(([name, value]) => (value >= 0.0005 ? [`${name} ${ms(value)}`] : [])).join(', ');
  return [
    `whole ${ms(wall)}`,
    `one after the other: ${list(parts)}`,
    `processor: ${list(Object.entries(processor))}`,
    `commits: ${Object.entries(commits)
      .map(([name, one]) => `${name} ${one.transactions}, ${one.syncs} times the disk`)
      .join('; ')}`,
  ].join('\n');
}

async function counted(on: Installation): Promise<Pick<Budget, 'processor' | 'commits'>> {
  const [service, sites, records] = on.roots as [number, number, number];
  const processor: Record<string, number> = {
    'database server of sites': await processorSecondsOf([sites]),
    'database server of records': await processorSecondsOf([records]),
  };
  for (const [name, pid] of await childrenOf(service)) processor[name] = await processorSecondsOf([pid]);
  processor.service = (await processorSecondsOf([service])) - (processor.worker ?? 0) - (processor.gateway ?? 0);
  return { processor, commits: { sites: await commitsOf(on.server), records: await commitsOf(on.records) } };
}

async function childrenOf(parent: number): Promise<[string, number][]> {
  const found: [string, number][] = [];
  for (const name of await fs.readdir('/proc')) {
    if (!/^\d+$/.test(name)) continue;
    const stat = await fs.readFile(`/proc/${name}/stat`, 'utf8').catch(() => '');
    const line = await fs.readFile(`/proc/${name}/cmdline`, 'utf8').catch(() => '');
    if (Number(stat.slice(stat.lastIndexOf(')') + 2).split(' ')[1]) !== parent) continue;
    const program = /(worker|gateway)\.cjs/.exec(line)?.[1];
    if (program !== undefined) found.push([program, Number(name)]);
  }
  return found;
}

async function commitsOf(login: pg.ClientConfig): Promise<{ transactions: number; syncs: number }> {
  const client = new pg.Client({ ...login, database: 'postgres' });
  await client.connect();
  try {
    await client.query('SELECT pg_stat_force_next_flush()');
    const { rows } = await client.query(
      'SELECT (SELECT sum(xact_commit) FROM pg_stat_database)::int AS transactions, (SELECT wal_sync FROM pg_stat_wal)::int AS syncs',
    );
    return rows[0] as { transactions: number; syncs: number };
  } finally {
    await client.end();
  }
}
