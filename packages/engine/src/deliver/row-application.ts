import { calledIn, toBytes, toText } from '@tessarion/core';
import type { RowWriter, SiteDatabase, Written } from '../ports/database.js';
import type { Mode, Protection } from '../ports/rows.js';
import type { TableShape } from '../ports/shapes.js';
import type { Environment } from '../site/environment.js';
import { protectingReferences } from '../site/protecting-references.js';

/** Another database of the same environment, whose rows may refer to what goes. */
interface OtherDatabase {
  readonly database: SiteDatabase;
  readonly tables: readonly TableShape[];
}

/** Applies row changes to one database of an environment, and keeps what visitors refer to from any of them. */
export class RowApplication {
  readonly #writer: RowWriter;
  readonly #environment: Pick<Environment, 'profile'>;
  readonly #others: readonly OtherDatabase[];

  private constructor(writer: RowWriter, environment: Pick<Environment, 'profile'>, others: readonly OtherDatabase[]) {
    this.#writer = writer;
    this.#environment = environment;
    this.#others = others;
  }

  /** @param purpose names the transfer in the session, so that a successor can end it */
  static async open(
    database: SiteDatabase,
    environment: Pick<Environment, 'databases' | 'profile'>,
    purpose: string,
    mode: Mode,
  ): Promise<RowApplication> {
    const { profile, databases } = environment;
    const isCrossed = (profile?.references ?? []).some((one) => one.from.includes('/') || one.to.includes('/'));
    const others: OtherDatabase[] = [];
    if (isCrossed)
      for (const other of databases.filter((one) => one.name !== database.name))
        others.push({ database: other, tables: await tablesOf(other) });
    return new RowApplication(await database.system.write(database, purpose, mode), environment, others);
  }

  /** Takes changes to be written; see {@link RowWriter.stage}. */
  stage(...what: Parameters<RowWriter['stage']>): Promise<void> {
    return this.#writer.stage(...what);
  }

  /** Writes everything and stops before the commit; see {@link RowWriter.write}. */
  write(unsure: ReadonlySet<string> = new Set()): Promise<Written> {
    return this.#writer.write(unsure, (table) => this.#protecting(table));
  }

  #protecting(shape: TableShape): Protection[] {
    const { profile } = this.#environment;
    const tables = [this.#writer.schema.tables, ...this.#others.map((one) => one.tables)].flat();
    return protectingReferences(profile, tables, shape).map(({ table, column }) => {
      const other = this.#others.find((one) => one.database.name === table.database)?.database;
      const by = other ? (keys: readonly string[]) => referredTo(other, table, column, keys) : { table, column };
      return { called: calledIn(profile, table), by };
    });
  }

  commit(): Promise<void> {
    return this.#writer.commit();
  }

  close(): Promise<void> {
    return this.#writer.close();
  }
}

async function tablesOf(database: SiteDatabase): Promise<readonly TableShape[]> {
  const questions = await database.system.ask(database, 'check');
  await questions.close();
  return questions.schema.tables;
}

/** Of some keys those that rows of another database refer to. */
async function referredTo(
  database: SiteDatabase,
  table: TableShape,
  column: string,
  keys: readonly string[],
): Promise<string[]> {
  const questions = await database.system.ask(database, 'check');
  try {
    return [...(await questions.countReferring({ table, column, keys: keys.map(toBytes) })).keys()].map(toText);
  } finally {
    await questions.close();
  }
}
