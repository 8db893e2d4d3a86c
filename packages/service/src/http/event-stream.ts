import type { StreamEvent } from '@tessarion/contract';
import type { FastifyReply, FastifyRequest } from 'fastify';
import pg from 'pg';
import { EVENT_CHANNEL, eventsAfter, lastEventId } from '../ground/events.js';
import { ProblemError } from '../ground/problems.js';
import type { Sight } from '../people/sight.js';
import type { Installation } from '../transfers/installation.js';

/** Nobody hears of a thing that they may not read. */
const isSeen = (sight: Sight, event: StreamEvent): boolean =>
  event.type === 'site' ? sight.seesSite(event.site) : sight.seesEnvironment(event.onto);

const BATCH = 500;
const KEEP_ALIVE_MS = 15_000;
/** Streams that one person may have open: tabs, and programs that wait. */
const MOST_STREAMS = 20;
/** Whoever reads slower than this is let go, and goes on where it was. */
const MOST_UNREAD = 1024 * 1024;

/** Server-sent events that resume from `Last-Event-ID`; one listening connection serves every client. */
export class EventStream {
  readonly #installation: Installation;
  readonly #clients = new Set<() => void>();
  readonly #answers = new Map<FastifyReply['raw'], string>();
  #listener: pg.Client | undefined;
  #isClosed = false;

  constructor(installation: Installation) {
    this.#installation = installation;
  }

  async #listen(): Promise<void> {
    if (this.#listener || this.#isClosed) return;
    const client = new pg.Client({
      connectionString: this.#installation.recordsUrl,
      application_name: 'tessarion events',
    });
    this.#listener = client;
    const lost = (): void => {
      if (this.#listener !== client) return;
      this.#listener = undefined;
      if (!this.#isClosed) setTimeout(() => void this.#listen().catch(() => undefined), 1000);
    };
    client.on('error', lost);
    client.on('end', lost);
    client.on('notification', () => {
      for (const wake of this.#clients) wake();
    });
    await client.connect();
    await client.query(`LISTEN ${EVENT_CHANNEL}`);
    for (const wake of this.#clients) wake();
  }

  /**
   * @param person whose stream it is
   * @param sight what they may read at the moment; undefined once they may nothing any more
   * @throws {ProblemError} `too-many-requests`
   */
  async serve(
    request: FastifyRequest,
    reply: FastifyReply,
    person: string,
    sight: () => Promise<Sight | undefined>,
  ): Promise<void> {
    const { records } = this.#installation;
    await this.#listen();
    const asked = Number(request.headers['last-event-id'] ?? Number.NaN);
    let at = Number.isSafeInteger(asked) && asked >= 0 ? asked : await lastEventId(records);
    if ([...this.#answers.values()].filter((one) => one === person).length >= MOST_STREAMS)
      throw new ProblemError(
        'too-many-requests',
        `You listen ${MOST_STREAMS} times already.`,
        'Close a page of the console, or a program that waits.',
      );
    reply.hijack();
    const answer = reply.raw;
    this.#answers.set(answer, person);
    answer.writeHead(200, {
      'content-type': 'text/event-stream',
      'cache-control': 'no-store',
      'x-accel-buffering': 'no',
    });
    answer.write(`id: ${at}\nretry: 1000\n\n`);
    let isSending = false;
    let again = false;
    const send = async (): Promise<void> => {
      if (isSending) {
        again = true;
        return;
      }
      isSending = true;
      do {
        again = false;
        const events = await eventsAfter(records, at, BATCH);
        if (events.length === 0) continue;
        const seen = await sight();
        if (!seen) {
          answer.end();
          break;
        }
        for (const event of events) {
          if (isSeen(seen, event.data)) answer.write(`id: ${event.id}\ndata: ${JSON.stringify(event.data)}\n\n`);
          at = event.id;
        }
        if (answer.writableLength > MOST_UNREAD) {
          answer.destroy();
          break;
        }
        if (events.length === BATCH) again = true;
      } while (again);
      isSending = false;
    };
    const wake = (): void => {
      send().catch((error: unknown) => {
        isSending = false;
        this.#installation.log.warn({ err: error }, 'events not sent');
      });
    };
    this.#clients.add(wake);
    wake();
    const alive = setInterval(() => answer.write(': \n\n'), KEEP_ALIVE_MS);
    answer.on('close', () => {
      clearInterval(alive);
      this.#clients.delete(wake);
      this.#answers.delete(answer);
    });
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    for (const answer of this.#answers.keys()) answer.end();
    await this.#listener?.end().catch(() => undefined);
  }
}
