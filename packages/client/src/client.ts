import {
  type BodyOf,
  type EditName,
  type Endpoint,
  type EndpointName,
  endpoints,
  type ParamsOf,
  Problem,
  type QueryOf,
  type ResponseOf,
} from '@tessarion/contract';
import { type Answer, type Question, type Send, sendByFetch } from './send.js';

/** What the service answered instead of doing what was asked. */
export class ServiceProblem extends Error {
  override readonly name = 'ServiceProblem';
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

/** The service cannot be reached at all. */
export class ServiceUnreachable extends Error {
  override readonly name = 'ServiceUnreachable';
}

/** Where the service is, and how it is asked. */
export interface ClientOptions {
  /** Such as `http://127.0.0.1:7070`; empty for the page's own origin. */
  readonly url: string;
  readonly token?: string;
  /** How it is asked; by `fetch` where nothing else is said. */
  readonly send?: Send;
}

type Given<N extends EndpointName> = {
  readonly params?: ParamsOf<N>;
  readonly query?: QueryOf<N>;
  readonly body?: BodyOf<N>;
  /** Makes a repeated request harmless. */
  readonly idempotencyKey?: string;
  readonly signal?: AbortSignal;
} & (N extends EditName
  ? {
      /** Entity tag of what was edited, as it was read; `*` writes over whatever is there; null where nothing is yet. */
      readonly etag: string | null;
    }
  : unknown);

/** What a call is given; nothing is needed where nothing must be said. */
type Args<N extends EndpointName> = N extends EditName ? [given: Given<N>] : [given?: Given<N>];

/** Calls the service by endpoint name; requests and responses are typed by the contract. */
export class Client {
  readonly #options: ClientOptions;

  constructor(options: ClientOptions) {
    this.#options = options;
  }

  get url(): string {
    return this.#options.url;
  }

  headers(): Record<string, string> {
    return this.#options.token === undefined ? {} : { authorization: `Bearer ${this.#options.token}` };
  }

  /** @throws {ServiceProblem} when refused or failed @throws {ServiceUnreachable} */
  async call<N extends EndpointName>(name: N, ...[given]: Args<N>): Promise<ResponseOf<N>> {
    const { etag } = (given ?? {}) as { readonly etag?: string | null };
    const definition = endpoints[name] as Endpoint;
    const params = (given?.params ?? {}) as Record<string, string>;
    const path = definition.path.replace(/:(\w+)/g, (_all, key: string) => encodeURIComponent(params[key] ?? ''));
    const query = new URLSearchParams(
      Object.entries((given?.query ?? {}) as Record<string, unknown>).flatMap(([key, value]) =>
        value === undefined ? [] : [[key, String(value)]],
      ),
    );
    const response = await this.#send(`${this.#options.url}/api/v1${path}${query.size > 0 ? `?${query}` : ''}`, {
      method: definition.method,
      headers: {
        ...this.headers(),
        ...(given?.body === undefined ? {} : { 'content-type': 'application/json' }),
        ...(given?.idempotencyKey === undefined ? {} : { 'idempotency-key': given?.idempotencyKey }),
        ...(etag === undefined || etag === null ? {} : { 'if-match': etag === '*' ? etag : `"${etag}"` }),
      },
      ...(given?.body === undefined ? {} : { body: JSON.stringify(given?.body) }),
      ...(given?.signal === undefined ? {} : { signal: given?.signal }),
    });
    if (response.ok && definition.isText) return whole(response.pieces()) as unknown as ResponseOf<N>;
    let text = '';
    for await (const piece of whole(response.pieces())) text += piece;
    if (!response.ok) throw new ServiceProblem(readProblem(response.status, text));
    return definition.response.parse(text === '' ? undefined : JSON.parse(text)) as ResponseOf<N>;
  }

  /** The event stream, from behind an event's id. @throws {ServiceUnreachable} */
  events(last: string, signal: AbortSignal): Promise<Answer> {
    return this.#send(`${this.#options.url}/api/v1/events`, {
      method: 'GET',
      headers: {
        ...this.headers(),
        accept: 'text/event-stream',
        ...(last === '' ? {} : { 'last-event-id': last }),
      },
      signal,
    });
  }

  async #send(url: string, question: Question): Promise<Answer> {
    try {
      return await (this.#options.send ?? sendByFetch)(url, question);
    } catch (error) {
      if (question.signal?.aborted) throw error;
      throw new ServiceUnreachable(`The service at ${this.#options.url || 'this address'} cannot be reached.`, {
        cause: error,
      });
    }
  }
}

/** Text as it arrives. @throws {ServiceUnreachable} where it breaks off */
async function* whole(pieces: AsyncIterable<string>): AsyncGenerator<string> {
  try {
    yield* pieces;
  } catch (error) {
    throw new ServiceUnreachable('The service broke off before everything was there.', { cause: error });
  }
}

function readProblem(status: number, text: string): Problem {
  try {
    return Problem.parse(JSON.parse(text));
  } catch {
    return {
      type: 'about:blank',
      title: 'Unexpected answer',
      status,
      detail: `The service answered ${status} in a form that is not known.`,
    };
  }
}
