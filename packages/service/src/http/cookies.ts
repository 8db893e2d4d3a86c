import '@fastify/cookie';
import type { FastifyReply } from 'fastify';
import type { NewSession } from '../people/sign-in.js';

/** As which guest the browser came; sent to guests' endpoints only. */
export const GUEST_COOKIE = 'tessarion_guest';

type Place = { readonly consoleUrl: string };

/** Where people come by TLS, their cookies go by nothing else. */
export const isSecure = ({ consoleUrl }: Place): boolean => consoleUrl.startsWith('https:');

/**
 * Whom the browser has signed in. By TLS its name says that it was set here, for this host alone and by TLS (RFC 6265bis,
 * 4.1.3): neither another host of the domain nor a page that came in the clear can plant one.
 */
export const sessionCookie = (place: Place): string => `${isSecure(place) ? '__Host-' : ''}tessarion_session`;

/** Sets the cookie of a session. */
export function giveSession(
  reply: FastifyReply,
  { session, expires }: Pick<NewSession, 'session' | 'expires'>,
  place: Place,
): void {
  const secure = isSecure(place);
  void reply.setCookie(sessionCookie(place), session, {
    path: '/',
    httpOnly: true,
    sameSite: 'strict',
    secure,
    expires,
  });
}

/** Takes the cookie of a session away. */
export const endSession = (reply: FastifyReply, place: Place): void =>
  void reply.clearCookie(sessionCookie(place), { path: '/', secure: isSecure(place) });
