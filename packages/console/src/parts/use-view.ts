import { useEffect, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';

/** What a room's URL says of what is shown in it. */
export interface View {
  /** What the URL says; empty where it says nothing. */
  readonly get: (name: string) => string;
  /** Those of some names of which the URL says something. */
  readonly among: (names: readonly string[]) => Record<string, string>;
  readonly set: (name: string, value: string) => void;
}

/** Which thing of a room is open, or `new`; the way back closes it. */
export function useOpen(): readonly [at: string, open: (at: string) => void] {
  const [query, setQuery] = useSearchParams();
  return [query.get('at') ?? '', (at) => setQuery(at === '' ? {} : { at })];
}

/** The view of a room, as its URL holds it. */
export function useView(): View {
  const [query, setQuery] = useSearchParams();
  const get = (name: string): string => query.get(name) ?? '';
  return {
    get,
    among: (names) => Object.fromEntries(names.flatMap((name) => (get(name) === '' ? [] : [[name, get(name)]]))),
    set: (name, value) =>
      setQuery(
        (former) => {
          const next = new URLSearchParams(former);
          if (value === '') next.delete(name);
          else next.set(name, value);
          return next;
        },
        { replace: true },
      ),
  };
}

/**
 * What one is at in a list: at once here, and a moment later in the address, which the router changes when it has time. A
 * key that comes right after another one finds what that led to.
 *
 * @param name of the part of the address
 * @param follow puts it there
 */
export function useAt(
  name: string,
  follow: (id: string | undefined) => void,
): readonly [at: string | undefined, go: (id: string | undefined) => void] {
  const [query] = useSearchParams();
  const said = query.get(name) ?? undefined;
  const [at, setAt] = useState(said);
  const own = useRef<(string | undefined)[]>([]);
  useEffect(() => {
    const mine = own.current.indexOf(said);
    if (mine === -1) setAt(said);
    else own.current.splice(0, mine + 1);
  }, [said]);
  return [
    at,
    (id) => {
      own.current.push(id);
      setAt(id);
      follow(id);
    },
  ];
}
