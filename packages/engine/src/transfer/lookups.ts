import { describeSchema } from '../database/describe.js';
import { borrowSession, type Session } from '../database/sessions.js';
import type { DatabaseLogin, TableShape } from '../database/site-database.js';
import type { Environment } from '../environment/environment.js';

/** A session on a site's database, and what its tables are like. */
export interface Lookup {
  readonly client: Session;
  readonly tables: readonly TableShape[];
}

/** Sessions that several questions share: each is opened for the first one, and all are closed together. */
export class Lookups {
  readonly #open = new Map<string, Promise<Lookup>>();

  /** @returns undefined where the environment has no such database @throws {EngineError} as {@link connectTo} */
  async in(environment: Environment, database: string): Promise<Lookup | undefined> {
    const login = environment.databases.find((one) => one.name === database)?.login;
    if (!login) return undefined;
    const at = `${environment.path} ${database}`;
    const lookup = this.#open.get(at) ?? open(login);
    this.#open.set(at, lookup);
    return lookup;
  }

  async close(): Promise<void> {
    for (const one of await Promise.allSettled(this.#open.values()))
      if (one.status === 'fulfilled') await one.value.client.giveBack();
  }
}

async function open(login: DatabaseLogin): Promise<Lookup> {
  const client = await borrowSession(login, 'read', 'impact');
  try {
    return { client, tables: (await describeSchema(client)).tables };
  } catch (error) {
    await client.giveBack();
    throw error;
  }
}
