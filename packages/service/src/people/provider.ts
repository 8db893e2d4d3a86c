import type { Person, SignInProblem } from '@tessarion/contract';
import * as openid from 'openid-client';
import type { OnRecords } from '../ground/open.js';
import { ProblemError, type ProblemKind } from '../ground/problems.js';

/** An OpenID Connect provider by which colleagues may sign in. */
export interface ProviderSettings {
  /** What people know it by. */
  readonly name: string;
  readonly issuer: string;
  readonly clientId: string;
  readonly clientSecret: string;
}

/** What must come back as it was sent. */
export interface Journey {
  readonly state: string;
  readonly nonce: string;
  readonly verifier: string;
  /** Path of the console where to go then. */
  readonly to: string;
}

/** The provider that the variables name; undefined where people sign in with passwords only. */
export function providerSettings(variables: NodeJS.ProcessEnv = process.env): ProviderSettings | undefined {
  const { TESSARION_OIDC_ISSUER: issuer, TESSARION_OIDC_CLIENT_ID: clientId } = variables;
  if (!issuer || !clientId) return undefined;
  return {
    name: variables.TESSARION_OIDC_NAME ?? new URL(issuer).host,
    issuer,
    clientId,
    clientSecret: variables.TESSARION_OIDC_CLIENT_SECRET ?? '',
  };
}

/** Why somebody was not let in by a provider; where one signs in, only its code is told. */
export class NotLetIn extends ProblemError {
  constructor(
    kind: ProblemKind,
    readonly code: SignInProblem,
    detail: string,
    next: string,
  ) {
    super(kind, detail, next);
  }
}

const LOOPBACK = ['127.0.0.1', 'localhost', '[::1]'];

/** Signing in by a provider: the code flow with PKCE, state and nonce (OpenID Connect Core 1.0, RFC 7636). */
export class Provider {
  readonly #settings: ProviderSettings;
  readonly #returnUrl: string;
  #known: Promise<openid.Configuration> | undefined;

  /** @param returnUrl where the provider sends people back to; to be registered there */
  constructor(settings: ProviderSettings, returnUrl: string) {
    this.#settings = settings;
    this.#returnUrl = returnUrl;
  }

  get name(): string {
    return this.#settings.name;
  }

  /** The provider's own description, read when it is first needed; one that was down is asked again. */
  #configuration(): Promise<openid.Configuration> {
    const issuer = new URL(this.#settings.issuer);
    this.#known ??= openid
      .discovery(issuer, this.#settings.clientId, this.#settings.clientSecret, undefined, {
        execute: [
          // The signature of ID tokens is checked with the provider's keys, whatever way they came by.
          openid.enableNonRepudiationChecks,
          // Plain HTTP is for a provider on this machine alone.
          ...(LOOPBACK.includes(issuer.hostname) ? [openid.allowInsecureRequests] : []),
        ],
        timeout: 10,
      })
      .catch((error: unknown) => {
        this.#known = undefined;
        throw notReached(this.name, error);
      });
    return this.#known;
  }

  /** Where somebody is sent to sign in. @throws {ProblemError} `conflict` where the provider does not answer */
  async begin(to: string): Promise<{ url: URL; journey: Journey }> {
    const configuration = await this.#configuration();
    const journey = {
      state: openid.randomState(),
      nonce: openid.randomNonce(),
      verifier: openid.randomPKCECodeVerifier(),
      to,
    };
    const url = openid.buildAuthorizationUrl(configuration, {
      redirect_uri: this.#returnUrl,
      scope: 'openid email profile',
      state: journey.state,
      nonce: journey.nonce,
      code_challenge: await openid.calculatePKCECodeChallenge(journey.verifier),
      code_challenge_method: 'S256',
    });
    return { url, journey };
  }

  /**
   * Who came back.
   *
   * @param search the query with which they came
   * @throws {ProblemError} `not-signed-in` where the provider does not vouch for them
   */
  async end(search: string, journey: Journey): Promise<{ issuer: string; subject: string; mail: string | undefined }> {
    const configuration = await this.#configuration();
    const tokens = await openid
      .authorizationCodeGrant(configuration, new URL(`${this.#returnUrl}${search}`), {
        pkceCodeVerifier: journey.verifier,
        expectedState: journey.state,
        expectedNonce: journey.nonce,
        idTokenExpected: true,
      })
      .catch((error: unknown) => {
        throw new NotLetIn(
          'not-signed-in',
          'not-vouched',
          `${this.name} did not vouch for you: ${error instanceof Error ? error.message : String(error)}.`,
          'Sign in once more.',
        );
      });
    const claims = tokens.claims() as openid.IDToken;
    // An address that the provider has not seen a mail come through is anybody's.
    const mail = claims.email_verified === true && typeof claims.email === 'string' ? claims.email : undefined;
    return { issuer: claims.iss, subject: claims.sub, mail: mail?.toLowerCase() };
  }
}

const notReached = (name: string, error: unknown): NotLetIn =>
  new NotLetIn(
    'conflict',
    'not-reached',
    `${name} does not answer: ${error instanceof Error ? error.message : String(error)}.`,
    'Sign in with mail and password, or try again later.',
  );

/**
 * The person behind somebody whom a provider vouches for: who came by it before, or is here by that mail address.
 * Nobody is let in who was not invited, nor by a second account of the provider.
 *
 * @throws {ProblemError} `not-allowed`
 */
export async function personAt(
  trx: OnRecords,
  { issuer, subject, mail }: { readonly issuer: string; readonly subject: string; readonly mail: string | undefined },
  now: Date,
): Promise<Person> {
  const known = (await trx('identity as i')
    .join('person as p', 'p.id', 'i.person_id')
    .where({ issuer, subject })
    .first('p.id', 'p.name', 'p.mail', 'p.state')) as (Person & { state: string }) | undefined;
  const found =
    known ??
    (mail === undefined
      ? undefined
      : ((await trx('person').where({ mail }).first('id', 'name', 'mail', 'state')) as
          | (Person & { state: string })
          | undefined));
  if (!found || found.state === 'ended')
    throw mail === undefined && !found
      ? new NotLetIn(
          'not-allowed',
          'no-mail',
          'The provider does not say that your mail address is yours.',
          'Ask an administrator to invite you.',
        )
      : new NotLetIn(
          'not-allowed',
          'unknown',
          'Nobody here has your mail address.',
          'Ask an administrator to invite you.',
        );
  if (!known) {
    // A mail address that went to somebody else at the provider does not take its former owner's place with it.
    if (await trx('identity').where({ issuer, person_id: found.id }).first('subject'))
      throw new NotLetIn(
        'not-allowed',
        'another-account',
        `${found.name} comes by another account of the provider.`,
        `Ask an administrator to invite you again: tessarion people invite-again ${found.mail}`,
      );
    await trx('identity').insert({ issuer, subject, person_id: found.id, created_at: now });
  }
  if (found.state === 'invited') {
    await trx('person').where({ id: found.id }).update({ state: 'active' });
    await trx('invitation').where({ person_id: found.id }).delete();
  }
  return { id: found.id, name: found.name, mail: found.mail };
}
