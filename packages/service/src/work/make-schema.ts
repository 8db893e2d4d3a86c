import type { SchemaChange } from '@tessarion/core';
import type { Environment } from '@tessarion/engine';
import { failureOf } from '../ground/problems.js';
import type { TransferContext } from './context.js';

/** How the tables of the destination change in a transfer. */
export const schemaChangesOf = ({ data }: TransferContext): readonly SchemaChange[] => data.schemaChanges ?? [];

/** Ids of those changes that were begun. */
export const madeSchema = ({ data }: TransferContext): readonly string[] => data.madeSchema ?? [];

/** Carries one of them out, or takes it back. */
export async function changeSchema(
  context: TransferContext,
  destination: Environment,
  change: SchemaChange,
  statements: readonly string[],
): Promise<void> {
  const database = destination.databases.find((one) => one.name === change.database);
  await database?.system.changeTables(database.login, statements, change.isIndex, `transfer ${context.record.id}`);
}

/** Takes away what was made for rows that were never written. */
export async function revertSchema(context: TransferContext, destination: Environment): Promise<string[]> {
  const remains: string[] = [];
  const made = schemaChangesOf(context).filter((one) => madeSchema(context).includes(one.id));
  for (const change of made.toReversed())
    await changeSchema(context, destination, change, change.revert).catch((error: unknown) => {
      remains.push(`${change.id.slice('schema:'.length)} stays: ${failureOf(error).message}`);
    });
  return remains;
}
