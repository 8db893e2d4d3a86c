/** What a request asks for, and at which address. */
export interface Target {
  /** The name by which the environment is asked for, in lower case and without its port. */
  readonly host: string;
  /** That name as it goes on, with the port that the visitor named. */
  readonly authority: string;
  /** Path and query as they came, in origin form. */
  readonly path: string;
}

const AUTHORITY = /^([a-z\d](?:[a-z\d.-]*[a-z\d])?)(:\d{1,5})?$/i;
const ABSOLUTE = /^https?:\/\/([^/?#]*)(.*)$/is;
/** What may stand in a path; a fragment never comes this far. */
const PATH = /^\/[!"$-~\u0080-\u00ff]*$/;

/**
 * Reads where a request goes (RFC 9112, 3.2 and 3.2.2). Web servers take the host of a target that names one for the
 * host that is asked for, so that none may get past a gate by another name than the one the gate was asked for.
 *
 * @param url the request's target as it came
 * @returns undefined where it names no path, or another host than its `Host` header
 */
export function targetOf(url: string, hostHeader: string | undefined): Target | undefined {
  const [, host, port = ''] = AUTHORITY.exec(hostHeader ?? '') ?? [];
  if (host === undefined) return undefined;
  const authority = `${host.toLowerCase()}${port}`;
  const [, named, rest = ''] = ABSOLUTE.exec(url) ?? [];
  if (named !== undefined && named.toLowerCase() !== authority) return undefined;
  const path = named === undefined ? url : rest.startsWith('/') ? rest : `/${rest}`;
  return PATH.test(path) ? { host: host.toLowerCase(), authority, path } : undefined;
}
