import type { SiteDatabase, TableShape } from '../../ports/database.js';
import type { Environment } from '../../site/environment.js';
import { describeSchema } from '../describe.js';
import { borrowSession, type Session } from '../sessions.js';

/** A session on a site's database, and what its tables are like. */
export interface Lookup {
  readonly client: Session;
  readonly tables: readonly TableShape[];
}

/** Sessions that several questions share: each is opened for the first one, and all are closed together. */
export class Lookups {
  readonly #open = new Map<string, Promise<Lookup>>();

  /** One for each database of an environment. @throws {EngineError} as {@link connectTo} */
  all({ path, databases }: Environment): Promise<Lookup[]> {
    return Promise.all(
      databases.map((database) => {
        const at = `${path} ${database.name}`;
        const lookup = this.#open.get(at) ?? open(database);
        this.#open.set(at, lookup);
        return lookup;
      }),
    );
  }

  async close(): Promise<void> {
    for (const one of await Promise.allSettled(this.#open.values()))
      if (one.status === 'fulfilled') await one.value.client.giveBack();
  }
}

async function open({ name, login }: SiteDatabase): Promise<Lookup> {
  const client = await borrowSession(login, 'read', 'impact');
  try {
    return { client, tables: (await describeSchema(client, name)).tables };
  } catch (error) {
    await client.giveBack();
    throw error;
  }
}
