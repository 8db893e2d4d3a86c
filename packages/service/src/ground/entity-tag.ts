import { createHash } from 'node:crypto';
import { LRUCache } from 'lru-cache';

/** So many short ones are kept that a list of a whole fleet, most of which is alike, computes few. */
const REMEMBERED = 10_000;
const SHORT = 200;
const known = new LRUCache<string, string>({ max: REMEMBERED });

/**
 * The entity tag (RFC 9110, 8.8.3) of what an edit can change of a thing: another one as soon as that is another, and
 * the same whatever else becomes of the thing meanwhile.
 *
 * @param editable made anew for each call with its fields in the same order
 */
export function etagOf(editable: Readonly<Record<string, unknown>>): string {
  const text = JSON.stringify(editable);
  const found = known.get(text);
  if (found !== undefined) return found;
  const etag = createHash('sha256').update(text).digest('base64url').slice(0, 16);
  if (text.length <= SHORT) known.set(text, etag);
  return etag;
}
