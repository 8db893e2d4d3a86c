import { request } from 'node:http';
import { EngineError } from '@tessarion/engine';

/** Calls the gateway over its control socket. */
export class GatewayControl {
  readonly #socket: string;

  constructor(socket: string) {
    this.#socket = socket;
  }

  /** Stops admitting requests to an environment and waits until those running have ended, at most `drainMs`. */
  async hold(environment: string, leaseMs: number, drainMs: number): Promise<{ lease: string; waitedMs: number }> {
    return this.#call('/hold', { environment, leaseMs, drainMs });
  }

  /** Lets a hold last so much longer from now. @returns whether it lasts still */
  async keep(lease: string, leaseMs: number): Promise<{ isHeld: boolean }> {
    return this.#call('/keep', { lease, leaseMs });
  }

  /**
   * Lets requests through again. A lease that ended by itself is no error.
   *
   * @returns how long it was held, null where the gateway does not know; and whether it had ended by itself
   */
  async release(lease: string): Promise<{ heldMs: number | null; isOver: boolean }> {
    return this.#call('/release', { lease });
  }

  /** Reads the routes again and answers once they are in force. */
  async reload(): Promise<void> {
    await this.#call('/reload', {});
  }

  /**
   * @returns the process to be ended to end it, its port, whom it trusts before it, and whether somebody starts it again
   * when it dies
   */
  async ping(): Promise<{ port: number; pid: number; fronts: string; isKept: boolean }> {
    return this.#call('/ping', {});
  }

  /** Requests by environment and hour since they were last taken; they are counted once. */
  async takeTraffic(): Promise<Record<string, Record<string, number>>> {
    return this.#call('/traffic', {});
  }

  #call<T>(path: string, body: unknown): Promise<T> {
    return new Promise((resolve, reject) => {
      const call = request({ socketPath: this.#socket, path, method: 'POST', timeout: 15_000 }, (response) => {
        const chunks: Buffer[] = [];
        response.on('data', (chunk: Buffer) => chunks.push(chunk));
        response.on('end', () => {
          const text = Buffer.concat(chunks).toString();
          if (response.statusCode === 200) resolve(JSON.parse(text) as T);
          else
            reject(
              new EngineError(
                'server-unreachable',
                `The gateway answered ${response.statusCode}: ${text}`,
                'See that the gateway runs.',
              ),
            );
        });
      });
      call.on('timeout', () => call.destroy(new Error('no answer within 15 s')));
      call.on('error', (error) =>
        reject(
          new EngineError(
            'server-unreachable',
            `The gateway cannot be reached: ${error.message}`,
            'See that the gateway runs; tessarion serve starts it.',
            { cause: error },
          ),
        ),
      );
      call.end(JSON.stringify(body));
    });
  }
}
