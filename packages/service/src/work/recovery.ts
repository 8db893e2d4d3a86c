import { setTimeout as later } from 'node:timers/promises';
import type { Environment } from '@tessarion/engine';
import type { TransferData } from '../transfers/data.js';
import type { TransferContext } from './context.js';

/** What the sessions of a transfer are called on its databases. */
export const purposeOf = (context: TransferContext): string => `transfer ${context.record.id}`;

/** Under which name a transfer remembers the transactions in which it wrote rows, and took them back. */
export type Writing = 'transactions' | 'transactionsBack';

/** Transactions in which a transfer wrote rows, or took them back, committed or not. */
export const transactionsOf = ({ data }: TransferContext, writing: Writing): NonNullable<TransferData[Writing]> =>
  data[writing] ?? [];

/**
 * The databases in which the transfer's rows were written, or taken back. Before that, what is left of a dead worker's sessions is ended.
 */
export async function committedDatabases(
  context: TransferContext,
  environment: Environment,
  writing: Writing = 'transactions',
): Promise<ReadonlySet<string>> {
  const committed = new Set<string>();
  const transactions = transactionsOf(context, writing);
  if (transactions.length === 0) return committed;
  await endSessions(context, environment);
  for (const { database, id } of transactions) {
    const own = environment.databases.find((one) => one.name === database);
    let fate = await own?.system.fateOf(own.login, id);
    while (fate === 'open') {
      await later(50);
      fate = await own?.system.fateOf(own.login, id);
    }
    if (fate === 'committed') committed.add(database);
  }
  return committed;
}

/** Ends the sessions that this transfer (in any worker) still has on the environment's databases. */
export async function endSessions(context: TransferContext, environment: Environment): Promise<void> {
  for (const { login, system } of environment.databases) await system.endSessions(login, purposeOf(context));
}
