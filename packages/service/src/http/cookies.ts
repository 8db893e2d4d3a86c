import '@fastify/cookie';
import type { FastifyReply } from 'fastify';
import type { NewSession } from '../access/sign-in.js';

/** Whom the browser has signed in. */
export const SESSION_COOKIE = 'tessarion_session';
/** As which guest the browser came; sent to guests' endpoints only. */
export const GUEST_COOKIE = 'tessarion_guest';

type Place = { readonly consoleUrl: string };

/** Where people come by TLS, their cookies go by nothing else. */
export const isSecure = ({ consoleUrl }: Place): boolean => consoleUrl.startsWith('https:');

export function giveSession(
  reply: FastifyReply,
  { session, expires }: Pick<NewSession, 'session' | 'expires'>,
  place: Place,
): void {
  const secure = isSecure(place);
  void reply.setCookie(SESSION_COOKIE, session, { path: '/', httpOnly: true, sameSite: 'strict', secure, expires });
}
