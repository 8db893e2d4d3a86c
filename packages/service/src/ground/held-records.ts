import type { PrivateCluster } from '@tessarion/cluster';
import pg from 'pg';
import type { Logger } from 'pino';

/** Advisory lock class in the records' database: whoever holds it serves them. */
const SERVICE_LOCK = 0x7453;

const [FIRST_WAIT_MS, LONGEST_WAIT_MS] = [250, 10_000];
/** For how long a service that has just died may seem to have them still: three seconds. */
const [TRY_MS, MOST_TRIES] = [200, 15];

/**
 * What makes one service the only one on its records: a lock on a connection of its own, which ends with the process. Where
 * that is lost, the records' own cluster is looked after, and started again if it is gone.
 */
export class HeldRecords {
  #client: pg.Client | undefined;
  #isReleased = false;

  private constructor(
    private readonly url: string,
    private readonly cluster: PrivateCluster | undefined,
    private readonly log: Logger,
  ) {}

  /** @throws where another service has them */
  static async take(url: string, cluster: PrivateCluster | undefined, log: Logger): Promise<HeldRecords> {
    const held = new HeldRecords(url, cluster, log);
    for (let tries = 0; tries < MOST_TRIES; tries++) {
      if (await held.#lock()) return held;
      await new Promise((resolve) => setTimeout(resolve, TRY_MS));
    }
    throw new Error(
      'Another service has these records: stop that one first, or name another data folder. Nothing of it was touched.',
    );
  }

  async release(): Promise<void> {
    this.#isReleased = true;
    await this.#client?.end();
  }

  /** @returns whether nobody else has it */
  async #lock(): Promise<boolean> {
    const client = new pg.Client({
      connectionString: this.url,
      application_name: 'tessarion service lock',
      keepAlive: true,
    });
    let isLost = false;
    const lost = (): void => {
      if (isLost || this.#isReleased || this.#client !== client) return;
      isLost = true;
      this.#client = undefined;
      this.log.warn('the records are lost; they are looked after');
      void this.#again();
    };
    client.on('error', lost);
    client.on('end', lost);
    await client.connect();
    const { rows } = await client.query('SELECT pg_try_advisory_lock($1, 0) AS taken', [SERVICE_LOCK]);
    if (rows[0]?.taken === true) this.#client = client;
    else await client.end();
    return this.#client === client;
  }

  /** Starts the cluster where it is gone, and takes the lock again, until both succeed. */
  async #again(): Promise<void> {
    for (let wait = FIRST_WAIT_MS; !this.#isReleased; wait = Math.min(2 * wait, LONGEST_WAIT_MS)) {
      try {
        if (this.cluster && !(await this.cluster.isRunning())) {
          await this.cluster.start();
          this.log.warn("the records' cluster was started again");
        }
        if (await this.#lock()) return;
        this.log.error('another service has taken these records meanwhile');
      } catch (error) {
        this.log.error({ err: error }, 'the records are still away');
      }
      await new Promise((resolve) => setTimeout(resolve, wait));
    }
  }
}
