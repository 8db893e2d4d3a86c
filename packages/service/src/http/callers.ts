import type { FastifyRequest } from 'fastify';
import { ProblemError } from '../ground/problems.js';
import { guestOf } from '../guests/enter.js';
import type { GuestRecord } from '../guests/guests.js';
import type { Caller } from '../people/actors.js';
import type { Access } from '../people/sign-in.js';
import type { Installation } from '../transfers/installation.js';
import { GUEST_COOKIE, sessionCookie } from './cookies.js';
import type { Limits } from './limits.js';

const BEARER = /^Bearer (.+)$/;

/** Who a request comes from. */
export class Callers {
  constructor(
    private readonly installation: Installation,
    private readonly access: Access,
    private readonly limits: Limits,
  ) {}

  /** By token or session; undefined where it has neither, or one that has ended. */
  of(request: FastifyRequest): Promise<Caller | undefined> {
    const bearer = BEARER.exec(request.headers.authorization ?? '')?.[1];
    return this.access.callerOf({ token: bearer, session: request.cookies[sessionCookie(this.installation)] });
  }

  /** @throws {ProblemError} `not-signed-in`, which strangers hear so many times in a minute */
  async mustBeSignedIn(request: FastifyRequest): Promise<Caller> {
    const caller = await this.of(request);
    if (caller) return caller;
    await this.limits.ofStranger(request.ip);
    throw new ProblemError(
      'not-signed-in',
      request.headers.authorization === undefined ? 'You are not signed in.' : 'This token is not known, or has ended.',
      'Sign in: in the console, or with tessarion sign-in.',
    );
  }

  /** @throws {ProblemError} `not-signed-in`, which strangers hear so many times in a minute */
  async mustBeGuest(request: FastifyRequest): Promise<GuestRecord> {
    const guest = await guestOf(this.installation, request.cookies[GUEST_COOKIE]);
    if (guest) return guest;
    await this.limits.ofStranger(request.ip);
    throw new ProblemError(
      'not-signed-in',
      'Your link has ended, or you have not come in by it.',
      'Open the link once more, or ask whoever sent it for another one.',
    );
  }
}

/** A page of another origin must not act with somebody's cookie. */
export function refuseForeignOrigin(request: FastifyRequest, consoleUrl: string): void {
  if (request.method === 'GET' || BEARER.test(request.headers.authorization ?? '')) return;
  const { origin } = request.headers;
  const own = [`${request.protocol}://${request.host}`, new URL(consoleUrl).origin];
  if (origin !== undefined && !own.includes(origin))
    throw new ProblemError('not-allowed', 'This request comes from another site.', 'Use the console itself.');
}
