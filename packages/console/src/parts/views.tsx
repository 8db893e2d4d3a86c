import type { JSX, ReactNode } from 'react';

/** Ways of looking at one list, of which one holds. */
export function Views<T extends string>({
  name,
  views,
  at,
  choose,
}: {
  readonly name: string;
  readonly views: readonly { readonly view: T; readonly words: ReactNode }[];
  readonly at: T;
  readonly choose: (view: T) => void;
}): JSX.Element {
  return (
    <nav className="flex gap-2 max-desk:w-full max-desk:overflow-auto" aria-label={name}>
      {views.map(({ view, words }) => (
        <button
          key={view}
          type="button"
          aria-pressed={view === at}
          className="h-28 rounded-sm px-8 whitespace-nowrap text-ink2 hover:text-ink aria-pressed:bg-bed aria-pressed:font-semibold aria-pressed:text-ink touch:min-h-44"
          onClick={() => choose(view)}
        >
          {words}
        </button>
      ))}
    </nav>
  );
}
