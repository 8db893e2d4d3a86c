import type { IncomingHttpHeaders, IncomingMessage, OutgoingHttpHeaders } from 'node:http';
import type { Target } from './target.js';

/** The gate's own cookie; a browser keeps the first only for this host and over TLS (RFC 6265bis, 4.1.3.2). */
export const COOKIES = ['__Host-tsr_gate', 'tsr_gate'] as const;

/** Of one connection, not of the request (RFC 9110, 7.6.1); what is expected is answered here. */
const HOP_BY_HOP = new Set([
  'connection',
  'expect',
  'http2-settings',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
]);

/** What only a front may say of a visitor, however it is spelled; and `Proxy`, which CGI takes for a setting. */
const CLAIM =
  /^(?:x-forwarded(?:-.*)?|forwarded|x-real-ip|x-client-ip|x-cluster-client-ip|true-client-ip|proxy|x-tessarion-.*)$/;

/** Who asks, as far as trusted fronts tell. */
export interface Visitor {
  readonly address: string;
  readonly isSecure: boolean;
}

/** The cookies of a request, as names and values in their order. */
export const cookiesOf = (incoming: IncomingMessage): [string, string][] =>
  (incoming.headers.cookie ?? '')
    .split(/;\s*/)
    .filter((one) => one !== '')
    .map((one) => {
      const equals = one.indexOf('=');
      return [one.slice(0, equals), one.slice(equals + 1)];
    });

/** Names that a message's `Connection` header declares to be of its connection alone. */
const declared = (headers: IncomingHttpHeaders): string[] =>
  (headers.connection ?? '').split(',').map((name) => name.trim().toLowerCase());

/** @returns headers as they go on to the next, without those of the connection */
export function ofMessage(headers: IncomingHttpHeaders): OutgoingHttpHeaders {
  const dropped = new Set([...HOP_BY_HOP, ...declared(headers)]);
  return Object.fromEntries(Object.entries(headers).filter(([name]) => !dropped.has(name)));
}

/**
 * A request's headers as its site gets them: at its own name, with who asks, and without what a stranger says of that.
 *
 * @param keepsGate for a front, behind which the gate is
 */
export function toSite(
  incoming: IncomingMessage,
  target: Target,
  visitor: Visitor,
  keepsGate = false,
): OutgoingHttpHeaders {
  const { cookie: _cookie, ...rest } = ofMessage(incoming.headers);
  const headers = Object.fromEntries(
    Object.entries(rest).filter(([name]) => !CLAIM.test(name.replaceAll('_', '-'))),
  ) as OutgoingHttpHeaders;
  const cookies = cookiesOf(incoming).filter(
    ([name]) => keepsGate || !COOKIES.includes(name as (typeof COOKIES)[number]),
  );
  if (cookies.length > 0) headers.cookie = cookies.map(([name, value]) => `${name}=${value}`).join('; ');
  headers.host = target.authority;
  headers['x-forwarded-for'] = visitor.address;
  headers['x-forwarded-host'] = target.authority;
  headers['x-forwarded-proto'] = visitor.isSecure ? 'https' : 'http';
  // A body of unknown length must go on with its bounds, whatever the method.
  if (incoming.headers['transfer-encoding'] !== undefined) headers['transfer-encoding'] = 'chunked';
  return headers;
}

/** Says that only the visitor's own browser may keep an answer, whatever a copy says itself. */
export function forOneBrowser(headers: OutgoingHttpHeaders): OutgoingHttpHeaders {
  const { 'surrogate-control': _surrogate, 'cdn-cache-control': _cdn, ...rest } = headers;
  const said = String(headers['cache-control'] ?? '')
    .split(',')
    .map((one) => one.trim())
    .filter((one) => one !== '' && !/^(?:public|private|s-maxage=.*|proxy-revalidate)$/i.test(one));
  return { ...rest, 'cache-control': ['private', ...said].join(', '), 'x-robots-tag': 'noindex, nofollow' };
}
