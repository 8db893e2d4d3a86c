import { connectTo, type Environment } from '@tessarion/engine';
import type { TransferContext } from './context.js';

/** What the sessions of a transfer are called on its databases. */
export const purposeOf = (context: TransferContext): string => `transfer ${context.record.id}`;

interface RecordedTransaction {
  readonly database: string;
  readonly id: string;
}

/** Under which name a transfer remembers the transactions in which it wrote rows, and took them back. */
export type Writing = 'transactions' | 'transactionsBack';

/** Transactions in which a transfer wrote rows, or took them back, committed or not. */
export const transactionsOf = (context: TransferContext, writing: Writing): readonly RecordedTransaction[] =>
  (context.data[writing] as RecordedTransaction[] | undefined) ?? [];

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
    const login = environment.databases.find((one) => one.name === database)?.login;
    if (!login) continue;
    const client = await connectTo(login, 'read', 'recovery');
    try {
      for (;;) {
        const row = await client.query<{ status: string | null }>('SELECT pg_xact_status($1::xid8) AS status', [id]);
        const status = row.rows[0]?.status;
        if (status === 'committed') committed.add(database);
        if (status !== 'in progress') break;
        await new Promise((resolve) => setTimeout(resolve, 50));
      }
    } finally {
      await client.end();
    }
  }
  return committed;
}

/** Ends the sessions that this transfer (in any worker) still has on the environment's databases. */
export async function endSessions(context: TransferContext, environment: Environment): Promise<void> {
  for (const { login } of environment.databases) {
    const client = await connectTo(login, 'read', 'recovery');
    try {
      await client.query(
        'SELECT pg_catalog.pg_terminate_backend(pid, 3000) FROM pg_catalog.pg_stat_activity WHERE usename = current_user AND application_name = $1',
        [`tessarion ${purposeOf(context)}`.slice(0, 63)],
      );
    } finally {
      await client.end();
    }
  }
}
