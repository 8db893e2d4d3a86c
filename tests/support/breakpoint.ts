import pg from 'pg';
import type { Studio } from './studio.js';

/** Number of an advisory lock that nothing in the product has. */
const GATE = 424_242;

/**
 * Lets the worker stand still at the moment when a step's work is done and its record is not: the records' database
 * sleeps in the statement that would record it. Nothing in the product knows of this.
 */
export class Breakpoint {
  readonly #client: pg.Client;

  private constructor(client: pg.Client) {
    this.#client = client;
  }

  static async open(studio: Studio): Promise<Breakpoint> {
    // Of its own: it must stay when others are cut.
    const client = new pg.Client(studio.records.options);
    client.on('error', () => undefined);
    await client.connect();
    return new Breakpoint(client);
  }

  async set(step: string): Promise<void> {
    await this.#client.query(`CREATE OR REPLACE FUNCTION stand_still() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(120); RETURN new; END $$;
      DROP TRIGGER IF EXISTS stand_still ON transfer_step;
      CREATE TRIGGER stand_still BEFORE UPDATE ON transfer_step FOR EACH ROW WHEN (new.state = 'done' AND new.name = '${step}') EXECUTE FUNCTION stand_still()`);
  }

  /** As {@link set}, until {@link letGo}: then the step is recorded, and the worker goes on. */
  async setGate(step: string): Promise<void> {
    await this.#client.query(`SELECT pg_advisory_lock(${GATE});
      CREATE OR REPLACE FUNCTION stand_still() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
        PERFORM pg_advisory_xact_lock_shared(${GATE}); RETURN new; END $$;
      DROP TRIGGER IF EXISTS stand_still ON transfer_step;
      CREATE TRIGGER stand_still BEFORE UPDATE ON transfer_step FOR EACH ROW WHEN (new.state = 'done' AND new.name = '${step}') EXECUTE FUNCTION stand_still()`);
  }

  /** Waits until the worker stands at the gate. */
  async reachedGate(): Promise<void> {
    for (let tries = 0; tries < 1500; tries++) {
      const found = await this.#client.query(
        "SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND objid = $1 AND NOT granted",
        [GATE],
      );
      if (found.rows.length > 0) return;
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    throw new Error('the worker never came to the gate');
  }

  async letGo(): Promise<void> {
    await this.#client.query(`SELECT pg_advisory_unlock(${GATE})`);
    await this.#client.query('DROP TRIGGER IF EXISTS stand_still ON transfer_step');
  }

  /** Lets the worker stand still in the step "commit", with its rows written and locked, and nothing committed. */
  async setBeforeCommit(): Promise<void> {
    await this.#client.query(`CREATE OR REPLACE FUNCTION stand_still_writing() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
        IF EXISTS (SELECT 1 FROM transfer_step WHERE transfer_id = new.id AND name = 'commit' AND state = 'running')
          THEN PERFORM pg_sleep(120); END IF; RETURN new; END $$;
      DROP TRIGGER IF EXISTS stand_still ON transfer;
      CREATE TRIGGER stand_still BEFORE UPDATE OF data ON transfer FOR EACH ROW WHEN (old.data IS DISTINCT FROM new.data) EXECUTE FUNCTION stand_still_writing()`);
  }

  /** Waits until the worker stands there. @returns its transfer's worker id */
  async reached(): Promise<void> {
    for (let tries = 0; tries < 1500; tries++) {
      const found = await this.#client.query("SELECT 1 FROM pg_stat_activity WHERE wait_event = 'PgSleep'");
      if (found.rows.length > 0) return;
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    throw new Error('the worker never came to the breakpoint');
  }

  /** Ends the sleeping statement without letting it be recorded, and removes the breakpoint. */
  async clear(): Promise<void> {
    await this.#client.query("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE wait_event = 'PgSleep'");
    await this.#client.query(
      'DROP TRIGGER IF EXISTS stand_still ON transfer_step; DROP TRIGGER IF EXISTS stand_still ON transfer',
    );
  }

  async query(sql: string): Promise<Record<string, unknown>[]> {
    return (await this.#client.query(sql)).rows;
  }

  close(): Promise<void> {
    return this.#client.end();
  }
}
