import { hostname } from 'node:os';
import pg from 'pg';

/** Advisory lock classes in the records' database. */
const WORKER_LOCK = 0x7451;
const ENVIRONMENT_LOCK = 0x7452;

const HEARTBEAT_MS = 1000;
const SILENCE = '20s';

/**
 * A worker's life line: one direct connection that holds its locks. It is lost when the process dies, and within
 * seconds when the process stands still, since the server ends a session that is silent; whoever notices that the
 * lock is free may take over.
 */
export class WorkerIdentity {
  readonly #client: pg.Client;
  readonly #beat: NodeJS.Timeout;

  private constructor(
    readonly id: number,
    client: pg.Client,
    onLost: (reason: string) => void,
  ) {
    this.#client = client;
    client.on('error', (error) => onLost(error.message));
    client.on('end', () => onLost('the connection ended'));
    this.#beat = setInterval(() => {
      client.query('SELECT 1').catch((error: unknown) => onLost(String(error)));
    }, HEARTBEAT_MS);
  }

  /** @param onLost called once the locks can no longer be trusted; the process must stop writing at once */
  static async take(url: string, name: string, onLost: (reason: string) => void): Promise<WorkerIdentity> {
    const client = new pg.Client({ connectionString: url, application_name: 'tessarion worker lock', keepAlive: true });
    await client.connect();
    await client.query(`SET idle_session_timeout = '${SILENCE}'`);
    // Seen by others only once its lock is held: without it, it would be taken for dead.
    await client.query('BEGIN');
    const row = await client.query<{ id: number }>(
      'INSERT INTO worker (name, machine, started_at) VALUES ($1, $2, clock_timestamp()) RETURNING id',
      [name, hostname()],
    );
    const id = row.rows[0]?.id as number;
    await client.query('SELECT pg_advisory_lock($1, $2)', [WORKER_LOCK, id]);
    await client.query('COMMIT');
    return new WorkerIdentity(id, client, onLost);
  }

  /** Tries to become the one writer of an environment. @returns the new epoch, or undefined while another writes */
  async tryWrite(environment: string): Promise<number | undefined> {
    const lock = await this.#client.query<{ taken: boolean }>(
      'SELECT pg_try_advisory_lock($1, hashtext($2)) AS taken',
      [ENVIRONMENT_LOCK, environment],
    );
    if (!lock.rows[0]?.taken) return undefined;
    const row = await this.#client.query<{ epoch: number }>(
      'UPDATE environment SET epoch = epoch + 1 WHERE path = $1 RETURNING epoch',
      [environment],
    );
    return row.rows[0]?.epoch ?? 0;
  }

  async stopWriting(environment: string): Promise<void> {
    await this.#client.query('SELECT pg_advisory_unlock($1, hashtext($2))', [ENVIRONMENT_LOCK, environment]);
  }

  /** Workers on record whose life line is gone. `forget` them once their work is taken over. */
  async findDead(): Promise<number[]> {
    const others = await this.#client.query<{ id: number }>('SELECT id FROM worker WHERE id <> $1', [this.id]);
    const dead: number[] = [];
    for (const { id } of others.rows) {
      const lock = await this.#client.query<{ taken: boolean }>('SELECT pg_try_advisory_lock($1, $2) AS taken', [
        WORKER_LOCK,
        id,
      ]);
      if (!lock.rows[0]?.taken) continue;
      await this.#client.query('SELECT pg_advisory_unlock($1, $2)', [WORKER_LOCK, id]);
      dead.push(id);
    }
    return dead;
  }

  async forget(dead: readonly number[]): Promise<void> {
    await this.#client.query('DELETE FROM worker WHERE id = ANY ($1)', [dead]);
  }

  /** @param leavesWork whether others are to take this worker for dead, and to go on with what it leaves */
  async leave(leavesWork: boolean): Promise<void> {
    clearInterval(this.#beat);
    this.#client.removeAllListeners('end');
    if (!leavesWork) await this.#client.query('DELETE FROM worker WHERE id = $1', [this.id]).catch(() => undefined);
    await this.#client.end().catch(() => undefined);
  }
}
