import { matchesPath } from '../profile/rules.js';

/** What a person wants moved: all that `only` names (everything where it is empty), without what `except` names. */
export interface Choice {
  readonly only: readonly string[];
  readonly except: readonly string[];
}

export const EVERYTHING: Choice = { only: [], except: [] };

/** What a selector can name of a thing that changed. */
export interface Selectable {
  /** `KIND:KEY`. */
  readonly id: string;
  readonly kind: string;
  /** Table or area. */
  readonly part: string;
  /** Path of a file; undefined for rows. */
  readonly path: string | undefined;
}

/**
 * Tells whether a selector names a thing. Selectors are `KIND:KEY` for one item, `KIND:*` for a kind,
 * `table:NAME`, `area:NAME`, `path:PATTERN` (`*` any text but a slash, `**` any) and `part:data` or `part:files`.
 */
export function isNamed(selector: string, one: Selectable): boolean {
  if (selector === one.id) return true;
  const at = selector.indexOf(':');
  const [form, name] = [selector.slice(0, at), selector.slice(at + 1)];
  switch (form) {
    case 'table':
      return one.path === undefined && one.part === name;
    case 'area':
      return one.path !== undefined && one.part === name;
    case 'path':
      return one.path !== undefined && matchesPath(name, one.path);
    case 'part':
      return name === (one.path === undefined ? 'data' : 'files');
    default:
      return name === '*' && form === one.kind;
  }
}

export const isChosen = (choice: Choice, one: Selectable): boolean =>
  (choice.only.length === 0 || choice.only.some((selector) => isNamed(selector, one))) &&
  !choice.except.some((selector) => isNamed(selector, one));
