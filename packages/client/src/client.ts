import {
  type BodyOf,
  type Endpoint,
  type EndpointName,
  endpoints,
  type ParamsOf,
  Problem,
  type QueryOf,
  type ResponseOf,
} from '@tessarion/contract';

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

export interface ClientOptions {
  /** Such as `http://127.0.0.1:7070`; empty for the page's own origin. */
  readonly url: string;
  readonly token?: string;
  readonly fetch?: typeof fetch;
}

type Given<N extends EndpointName> = {
  readonly params?: ParamsOf<N>;
  readonly query?: QueryOf<N>;
  readonly body?: BodyOf<N>;
  /** Makes a repeated request harmless. */
  readonly idempotencyKey?: string;
  readonly signal?: AbortSignal;
};

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
  async call<N extends EndpointName>(name: N, given: Given<N> = {}): Promise<ResponseOf<N>> {
    const definition = endpoints[name] as Endpoint;
    const params = (given.params ?? {}) as Record<string, string>;
    const path = definition.path.replace(/:(\w+)/g, (_all, key: string) => encodeURIComponent(params[key] ?? ''));
    const query = new URLSearchParams(
      Object.entries((given.query ?? {}) as Record<string, unknown>).flatMap(([key, value]) =>
        value === undefined ? [] : [[key, String(value)]],
      ),
    );
    const response = await this.#send(`${this.#options.url}/api/v1${path}${query.size > 0 ? `?${query}` : ''}`, {
      method: definition.method,
      headers: {
        ...this.headers(),
        ...(given.body === undefined ? {} : { 'content-type': 'application/json' }),
        ...(given.idempotencyKey === undefined ? {} : { 'idempotency-key': given.idempotencyKey }),
      },
      ...(given.body === undefined ? {} : { body: JSON.stringify(given.body) }),
      ...(given.signal === undefined ? {} : { signal: given.signal }),
    });
    const text = await response.text();
    if (!response.ok) throw new ServiceProblem(readProblem(response.status, text));
    return definition.response.parse(text === '' ? undefined : JSON.parse(text)) as ResponseOf<N>;
  }

  async #send(url: string, init: RequestInit): Promise<Response> {
    try {
      return await (this.#options.fetch ?? fetch)(url, init);
    } catch (error) {
      if (init.signal?.aborted) throw error;
      throw new ServiceUnreachable(`The service at ${this.#options.url || 'this address'} cannot be reached.`, {
        cause: error,
      });
    }
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
