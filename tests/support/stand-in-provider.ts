import { createHash, randomUUID } from 'node:crypto';
import { createServer, type IncomingMessage, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { exportJWK, generateKeyPair, SignJWT } from 'jose';

/** Who signs in at the provider, as it vouches for them. */
export interface Vouched {
  readonly sub: string;
  readonly email?: string;
  readonly email_verified?: boolean;
}

/** A small OpenID Connect provider: it asks nobody anything, and vouches for whoever is set. */
export class StandInProvider {
  vouched: Vouched = { sub: 'nobody' };
  /** What it puts into its next token instead of what is right. */
  forged: { nonce?: string; aud?: string; key?: CryptoKey } = {};
  readonly #codes = new Map<string, { nonce: string; challenge: string; redirect: string }>();

  private constructor(
    readonly issuer: string,
    private readonly server: Server,
    private readonly key: CryptoKey,
    private readonly publicKey: Record<string, unknown>,
    private readonly client: { readonly id: string; readonly secret: string },
  ) {}

  static async open(client: { readonly id: string; readonly secret: string }): Promise<StandInProvider> {
    const { privateKey, publicKey } = await generateKeyPair('RS256');
    const jwk = { ...(await exportJWK(publicKey)), kid: 'one', alg: 'RS256', use: 'sig' };
    let provider: StandInProvider | undefined;
    const server = createServer((request, response) => {
      void (provider as StandInProvider).#answer(request).then(({ status, headers, body }) => {
        response.writeHead(status, { 'content-type': 'application/json', ...headers });
        response.end(body === undefined ? '' : JSON.stringify(body));
      });
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
    provider = new StandInProvider(issuer, server, privateKey, jwk, client);
    return provider;
  }

  close(): Promise<void> {
    return new Promise((resolve) => this.server.close(() => resolve()));
  }

  async #answer(
    request: IncomingMessage,
  ): Promise<{ status: number; headers?: Record<string, string>; body?: unknown }> {
    const url = new URL(request.url ?? '/', this.issuer);
    if (url.pathname === '/.well-known/openid-configuration') return { status: 200, body: this.#description() };
    if (url.pathname === '/keys') return { status: 200, body: { keys: [this.publicKey] } };
    if (url.pathname === '/authorize') {
      const asked = (name: string): string => url.searchParams.get(name) ?? '';
      const code = randomUUID();
      const redirect = asked('redirect_uri');
      this.#codes.set(code, { nonce: asked('nonce'), challenge: asked('code_challenge'), redirect });
      const location = new URL(redirect);
      location.searchParams.set('code', code);
      location.searchParams.set('state', asked('state'));
      return { status: 302, headers: { location: location.href } };
    }
    if (url.pathname === '/token') return this.#token(new URLSearchParams(await textOf(request)), request);
    return { status: 404 };
  }

  async #token(form: URLSearchParams, request: IncomingMessage) {
    const code = this.#codes.get(form.get('code') ?? '');
    this.#codes.delete(form.get('code') ?? '');
    const hash = createHash('sha256')
      .update(form.get('code_verifier') ?? '')
      .digest('base64url');
    const [id, secret] = form.has('client_secret')
      ? [form.get('client_id'), form.get('client_secret')]
      : Buffer.from((request.headers.authorization ?? '').replace('Basic ', ''), 'base64')
          .toString()
          .split(':');
    if (!code || code.challenge !== hash || code.redirect !== form.get('redirect_uri'))
      return { status: 400, body: { error: 'invalid_grant' } };
    if (id !== this.client.id || secret !== this.client.secret)
      return { status: 401, body: { error: 'invalid_client' } };
    const { forged } = this;
    this.forged = {};
    const { sub, ...more } = this.vouched;
    const idToken = await new SignJWT({ ...more, nonce: forged.nonce ?? code.nonce })
      .setProtectedHeader({ alg: 'RS256', kid: 'one' })
      .setIssuer(this.issuer)
      .setSubject(sub)
      .setAudience(forged.aud ?? this.client.id)
      .setIssuedAt()
      .setExpirationTime('5m')
      .sign(forged.key ?? this.key);
    const body = { access_token: randomUUID(), token_type: 'Bearer', expires_in: 300, id_token: idToken };
    return { status: 200, body };
  }

  #description() {
    return {
      issuer: this.issuer,
      authorization_endpoint: `${this.issuer}/authorize`,
      token_endpoint: `${this.issuer}/token`,
      jwks_uri: `${this.issuer}/keys`,
      response_types_supported: ['code'],
      subject_types_supported: ['public'],
      id_token_signing_alg_values_supported: ['RS256'],
      code_challenge_methods_supported: ['S256'],
    };
  }
}

async function textOf(request: IncomingMessage): Promise<string> {
  let text = '';
  for await (const chunk of request) text += String(chunk);
  return text;
}
