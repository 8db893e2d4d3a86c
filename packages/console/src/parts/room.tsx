import type { ComponentProps, JSX, ReactNode } from 'react';
import { Link } from 'react-router';
import { Icon } from './icon.js';

/** A room that is one slab. */
export function Room({ className = '', ...rest }: ComponentProps<'main'>): JSX.Element {
  return <main className={`min-h-0 flex-1 overflow-auto bg-slab px-16 py-24 ${className}`.trim()} {...rest} />;
}

/** Where a room lies, from the outside in, and at its end what may be done there; the last step back alone where it is narrow. */
export function Crumb({
  way,
  here,
  children,
}: {
  /** What it lies in: words, and the path that leads there. */
  readonly way: readonly (readonly [words: string, to: string])[];
  readonly here: string;
  readonly children?: ReactNode;
}): JSX.Element {
  return (
    <section
      aria-label="Where this is"
      className="flex h-36 flex-none items-center gap-10 overflow-hidden bg-slab px-16 max-desk:h-44 max-desk:px-12"
    >
      {way.map(([words, to], i) => (
        <Link
          key={to}
          to={to}
          className={`flex h-full min-w-0 items-center gap-10 hover:text-accent ${i < way.length - 1 ? 'max-desk:hidden' : ''}`}
        >
          <Icon name="left" className="desk:hidden" />
          <span className="truncate">{words}</span>
          <span className="text-ink3 max-desk:hidden" aria-hidden="true">
            /
          </span>
        </Link>
      ))}
      <h1 className="truncate">{here}</h1>
      {children}
    </section>
  );
}

/** The first line of a room that is a list: its name, what it is narrowed to, and what may be done. */
export function RoomHead({ className = '', ...rest }: ComponentProps<'div'>): JSX.Element {
  return (
    <div className={`flex flex-wrap items-center gap-8 px-16 py-8 max-desk:px-12 ${className}`.trim()} {...rest} />
  );
}
