import { request } from 'node:http';

const NAMES = [
  'Aud Lindgren',
  'Bram Visser',
  'Carys Penhale',
  'Dag Overby',
  'Elsa Marten',
  'Finn Kroon',
  'Greta Holt',
  'Hugo Brandt',
];

/** Sends one request to a site through the gateway; Node does not resolve `*.localhost` by itself. */
export function visit(
  gatewayPort: number,
  host: string,
  path: string,
  form?: Record<string, string>,
): Promise<{ status: number; body: string }> {
  const body = form ? new URLSearchParams(form).toString() : undefined;
  return new Promise((resolve, reject) => {
    const call = request(
      {
        host: '127.0.0.1',
        port: gatewayPort,
        path,
        method: form ? 'POST' : 'GET',
        headers: {
          host: `${host}:${gatewayPort}`,
          ...(body === undefined
            ? {}
            : { 'content-type': 'application/x-www-form-urlencoded', 'content-length': Buffer.byteLength(body) }),
        },
        timeout: 15_000,
      },
      (response) => {
        const chunks: Buffer[] = [];
        response.on('data', (chunk: Buffer) => chunks.push(chunk));
        response.on('end', () => resolve({ status: response.statusCode ?? 0, body: Buffer.concat(chunks).toString() }));
      },
    );
    call.on('timeout', () => call.destroy(new Error('no answer')));
    call.on('error', reject);
    call.end(body);
  });
}

/** Visitors who go on ordering and booking on the live sites, at a gentle pace, until stopped. */
export class Visitors {
  #timer: NodeJS.Timeout | undefined;
  #turn = 0;

  constructor(private readonly everyMs: number) {}

  start(gatewayPort: number): void {
    this.#timer = setInterval(() => {
      this.#one(gatewayPort, this.#turn++).catch(() => undefined);
    }, this.everyMs);
  }

  stop(): void {
    clearInterval(this.#timer);
  }

  async #one(gatewayPort: number, turn: number): Promise<void> {
    const name = NAMES[turn % NAMES.length] as string;
    const email = `${name.toLowerCase().replace(' ', '.')}@post.example`;
    switch (turn % 4) {
      case 0:
        await visit(gatewayPort, 'threadmill.localhost', '/order', {
          product: String(1 + (turn % 8)),
          name,
          email,
          quantity: '1',
          phone: '+47 400 10 200',
          street: `${turn % 90} Quay Street`,
        });
        return;
      case 1:
        await visit(gatewayPort, 'saltmarsh.localhost', '/book', {
          sailing: String(1 + (turn % 6)),
          name,
          email,
          seats: '2',
        });
        return;
      case 2:
        await visit(gatewayPort, 'pendulum.localhost', '/sign-up', { email: `${turn}.${email}` });
        return;
      default:
        await visit(gatewayPort, 'threadmill.localhost', '/review', {
          product: String(1 + (turn % 8)),
          author: name,
          email,
          text: 'Just as described, and quick.',
          stars: '5',
        });
    }
  }
}
