import { useSearchParams } from 'react-router';

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
