import type { Questions, SiteDatabase } from '../ports/database.js';
import type { Environment } from '../site/environment.js';

/** Sessions that several questions share: each is opened for the first one, and all are closed together. */
export class Lookups {
  readonly #open = new Map<string, Promise<Questions>>();

  /** One for each database of an environment. @throws {EngineError} as {@link DatabaseSystem.ask} */
  all({ path, databases }: Environment): Promise<Questions[]> {
    return Promise.all(databases.map((database) => this.#in(path, database)));
  }

  #in(path: string, database: SiteDatabase): Promise<Questions> {
    const at = `${path} ${database.name}`;
    const known = this.#open.get(at) ?? database.system.ask(database, 'impact');
    this.#open.set(at, known);
    return known;
  }

  async close(): Promise<void> {
    for (const one of await Promise.allSettled(this.#open.values()))
      if (one.status === 'fulfilled') await one.value.close();
  }
}
