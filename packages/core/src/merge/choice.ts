import { matchesPath } from '../pattern.js';

/** What a person wants moved: all that `only` names (everything where it is empty), without what `except` names. */
export interface Choice {
  readonly only: readonly string[];
  readonly except: readonly string[];
}

/** The choice that leaves nothing out. */
export const EVERYTHING: Choice = { only: [], except: [] };

/** What a selector can name of a thing that changed. */
export interface Selectable {
  /** `KIND:KEY`. */
  readonly id: string;
  readonly kind: string;
  /** Table or area. */
  readonly part: string;
  /** Another table that it may lie in, where its id does not tell which. */
  readonly orPart?: string;
  /** Path of a file; undefined for rows. */
  readonly path: string | undefined;
  /** Who last changed it, as the site's data calls them, and when, in milliseconds since 1970; where it says so. */
  readonly changedBy?: readonly string[] | undefined;
  readonly changedAt?: number | undefined;
}

/**
 * Tells whether a selector names a thing. Selectors are `KIND:KEY` for one item, `KIND:*` for a kind,
 * `table:NAME`, `area:NAME`, `path:PATTERN` (`*` any text but a slash, `**` any), `part:data` or `part:files`,
 * `by:PERSON`, `since:TIME` and `until:TIME` (ISO 8601, UTC where nothing else is said; a day stands for its beginning).
 */
export function isNamed(selector: string, one: Selectable): boolean {
  if (selector === one.id) return true;
  const at = selector.indexOf(':');
  const [form, name] = [selector.slice(0, at), selector.slice(at + 1)];
  switch (form) {
    case 'table':
      return one.path === undefined && (one.part === name || one.orPart === name);
    case 'area':
      return one.path !== undefined && one.part === name;
    case 'path':
      return one.path !== undefined && matchesPath(name, one.path);
    case 'part':
      return name === (one.path === undefined ? 'data' : 'files');
    case 'by':
      return one.changedBy?.includes(name) === true;
    case 'since':
      return one.changedAt !== undefined && one.changedAt >= timeOf(name);
    case 'until':
      return one.changedAt !== undefined && one.changedAt < timeOf(name);
    default:
      return name === '*' && form === one.kind;
  }
}

/** A time as a database or a person writes it; not a number where it is none. */
export function timeOf(text: string): number {
  const iso = text.trim().replace(' ', 'T');
  if (!iso.includes('T')) return Date.parse(iso);
  const zoned = iso.replace(/([+-]\d\d)$/, '$1:00');
  return Date.parse(/(?:Z|[+-]\d\d:\d\d)$/.test(zoned) ? zoned : `${zoned}Z`);
}

/** Whether a choice takes a thing along: named or nothing named, and not excepted. */
export const isChosen = (choice: Choice, one: Selectable): boolean =>
  (choice.only.length === 0 || choice.only.some((selector) => isNamed(selector, one))) &&
  !choice.except.some((selector) => isNamed(selector, one));
