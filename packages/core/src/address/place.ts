/**
 * A byte string: a JavaScript string in which every char code is one byte (0–255, "latin1").
 *
 * Rewriting is defined on bytes. Byte strings keep that, and let the engine's fast string search and slicing do
 * the work; callers convert with `Buffer.latin1Slice` and `Buffer.from(text, 'latin1')`.
 */
export type ByteString = string;

/** Schemes of addresses that are translated. */
export type Scheme = 'http' | 'https';

/** One spelling of where an address answers: scheme, host, port and path. */
export interface Location {
  readonly scheme: Scheme;
  /** Lower-case ASCII host name (internationalised names in their `xn--` form). */
  readonly host: string;
  /** Explicit port; absent means the scheme's default. */
  readonly port?: number;
  /** '' or an absolute path without a trailing slash, such as '/shop'. */
  readonly path: string;
  /** Port of the other scheme, where it has one; when `port` is absent the other scheme's default is understood. */
  readonly otherPort?: number;
}

/** A named address of an environment with its aliases; the glossary's *address*. */
export interface Address extends Location {
  readonly name: string;
  readonly aliases: readonly (Location & { readonly name: string })[];
}

/** A named absolute folder of an environment. */
export interface RootPath {
  readonly name: string;
  readonly path: string;
  /** It lies as it was found, as a folder: nothing switches it in one step. */
  readonly isPlain?: boolean;
}

/** Everything about an environment's position that its values may mention. The first address is the main one. */
export interface Place {
  readonly addresses: readonly Address[];
  readonly roots: readonly RootPath[];
}

/** The port that an address without one means (RFC 9110, section 4.2). */
export const defaultPort = (scheme: Scheme): number => (scheme === 'https' ? 443 : 80);

/** The scheme that is not this one. */
export const otherScheme = (scheme: Scheme): Scheme => (scheme === 'https' ? 'http' : 'https');

/** The port of a location's other scheme, or undefined where the location has no other scheme. */
export function portOfOtherScheme(at: Location): number | undefined {
  if (at.otherPort !== undefined) return at.otherPort;
  const ownIsDefault = at.port === undefined || at.port === defaultPort(at.scheme);
  return ownIsDefault ? defaultPort(otherScheme(at.scheme)) : undefined;
}

/** The port a location answers on under its own scheme. */
export const ownPort = (at: Location): number => at.port ?? defaultPort(at.scheme);

/**
 * Parses a base URL into a location.
 *
 * @throws {TypeError} when the text is not an absolute http or https URL, or carries a login, query or fragment.
 */
export function parseLocation(url: string): Location {
  const match = /^(https?):\/\/([a-z0-9](?:[a-z0-9.-]*[a-z0-9])?)(?::([1-9][0-9]{0,4}))?(\/[A-Za-z0-9._~\-/]*)?$/.exec(
    url,
  );
  const port = match?.[3] === undefined ? undefined : Number(match[3]);
  if (!match || (port !== undefined && port > 65535)) {
    throw new TypeError(`"${url}" is not a base URL such as https://shop.example/de`);
  }
  const scheme = match[1] as Scheme;
  const path = (match[4] ?? '').replace(/\/+$/, '');
  const explicit = port !== undefined && port !== defaultPort(scheme) ? { port } : {};
  return { scheme, host: match[2] as string, ...explicit, path };
}

/** Writes a location as a base URL, without a default port. */
export function formatLocation(at: Location): string {
  const port = at.port === undefined || at.port === defaultPort(at.scheme) ? '' : `:${at.port}`;
  return `${at.scheme}://${at.host}${port}${at.path}`;
}

/**
 * Names what would make a value ambiguous after a move from one place to another: an address that is missing, or
 * two addresses that lie inside one another (or share a host) on one side only.
 *
 * @returns plain sentences; empty when every canonical value of `from` can be written at `to` and read back.
 */
export function shapeConflicts(from: Place, to: Place): string[] {
  const found: string[] = [];
  const target = new Map(to.addresses.map((address) => [address.name, address]));
  for (const one of from.addresses) {
    if (!target.has(one.name)) found.push(`the destination has no address named "${one.name}"`);
    for (const other of from.addresses) {
      const [a, b] = [target.get(one.name), target.get(other.name)];
      if (one === other || !a || !b || nesting(one, other) === nesting(a, b)) continue;
      found.push(`addresses "${one.name}" and "${other.name}" lie inside one another on one side only`);
    }
  }
  for (const root of from.roots) {
    if (!to.roots.some((candidate) => candidate.name === root.name))
      found.push(`the destination has no root named "${root.name}"`);
  }
  return found;
}

function nesting(outer: Location, inner: Location): string {
  const sameHost = outer.host === inner.host && ownPort(outer) === ownPort(inner);
  if (!sameHost) return 'apart';
  return inner.path === outer.path || inner.path.startsWith(`${outer.path}/`)
    ? inner.path.slice(outer.path.length)
    : 'beside';
}
