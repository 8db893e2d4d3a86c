import type { JSX, ReactNode } from 'react';

/** What is known of a thing, name by name. */
export function Facts({ children }: { readonly children: ReactNode }): JSX.Element {
  return <dl className="border-t border-line">{children}</dl>;
}

/** One thing that is known, with its name. */
export function Fact({
  name,
  isWide = false,
  children,
}: {
  readonly name: ReactNode;
  /** Whether the names are as long as sentences. */
  readonly isWide?: boolean;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <div
      className={`grid gap-12 border-b border-line px-16 py-6 max-desk:grid-cols-[84px_minmax(0,1fr)] max-desk:px-12 ${isWide ? 'grid-cols-[240px_minmax(0,1fr)]' : 'grid-cols-[120px_minmax(0,1fr)]'}`}
    >
      <dt className={isWide ? 'font-medium' : 'text-small/20 text-ink2'}>{name}</dt>
      <dd className="min-w-0 wrap-anywhere">{children}</dd>
    </div>
  );
}
