import { useQueryClient } from '@tanstack/react-query';
import { ServiceProblem } from '@tessarion/client';
import { type JSX, type ReactNode, useEffect, useState } from 'react';
import { Button } from './button.js';
import { Room } from './room.js';

/** What is missing, why it helps, and one act. */
export function Empty({
  title,
  children,
  act,
}: {
  readonly title: string;
  readonly children: ReactNode;
  readonly act?: ReactNode;
}): JSX.Element {
  return (
    <div className="mx-auto my-48 grid max-w-420 justify-items-center gap-8 px-16 text-center">
      <svg width="32" height="32" viewBox="0 0 16 16" aria-hidden="true">
        <path
          d="M1.5,1.5H14.5V14.5H1.5Z"
          fill="none"
          stroke="var(--color-ink3)"
          strokeWidth={0.8}
          strokeDasharray="2.2 1.8"
        />
      </svg>
      <b>{title}</b>
      <p className="mb-8 text-ink2">{children}</p>
      {act}
    </div>
  );
}

interface Reason {
  readonly title?: string;
  readonly detail?: string | undefined;
  readonly next?: string | undefined;
  readonly fields?: readonly { readonly path: string; readonly message: string }[] | undefined;
  /** Whether the page does not know what the service says. */
  readonly isOlder?: boolean;
}

/** What no service said. */
function reasonOf(error: unknown): Reason {
  if (error instanceof Error && error.name === 'ZodError')
    return {
      title: 'This page is older than the service',
      detail: 'It does not know all that it is told.',
      isOlder: true,
    };
  // So a browser says that there was no answer (Fetch standard, *HTTP-network fetch*).
  if (error instanceof TypeError)
    return { title: 'Not connected', detail: 'The service does not answer.', next: 'Try again once it does.' };
  return { detail: error instanceof Error ? error.message : String(error) };
}

/** What went wrong, why, and what to do next. */
export function Failure({ error }: { readonly error: unknown }): JSX.Element {
  const problem: Reason = error instanceof ServiceProblem ? error.problem : reasonOf(error);
  return (
    <div className="mx-16 my-12 border-l-3 border-danger bg-danger-tint px-14 py-10" role="alert">
      <b>{problem.title ?? 'That did not work'}</b>
      <p className="mt-2 mb-6 wrap-anywhere">{problem.detail}</p>
      {(problem.fields?.length ?? 0) > 1 && (
        <ul>
          {problem.fields?.map((field) => (
            <li key={`${field.path} ${field.message}`}>
              {field.path}: {field.message}
            </li>
          ))}
        </ul>
      )}
      {problem.next && <p className="mt-2 mb-6 wrap-anywhere text-ink2">{problem.next}</p>}
      {problem.isOlder && <Button onClick={() => window.location.reload()}>Load it again</Button>}
    </div>
  );
}

/** Whether something has been awaited for long enough that it is said. */
export function useLate(): boolean {
  const [isLate, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), 150);
    return () => clearTimeout(timer);
  }, []);
  return isLate;
}

const WIDTHS = ['62%', '48%', '56%', '40%'];

/** Rows as they will stand, each a bar, after a moment; nothing jumps. */
export function Loading({ rows = 8, what }: { readonly rows?: number; readonly what: string }): JSX.Element | null {
  const isShown = useLate();
  return (
    <div className="min-h-0 overflow-hidden" aria-busy="true">
      <p className="h-28 border-b border-line px-16 leading-28 text-ink3 max-desk:px-12">{isShown ? what : '\u00a0'}</p>
      {isShown &&
        Array.from({ length: rows }, (_one, i) => (
          <div
            key={String(i)}
            className="flex h-row items-center border-b border-line px-16 max-desk:h-64 max-desk:px-12"
          >
            <i className="block h-12 bg-bed" style={{ width: WIDTHS[i % 4] }} />
          </div>
        ))}
    </div>
  );
}

/** A room whose content is being read, or cannot be. */
export function Unread({
  error,
  what,
  rows = 8,
}: {
  /** Null while it is being read. */
  readonly error: unknown;
  readonly what: string;
  readonly rows?: number;
}): JSX.Element {
  const cache = useQueryClient();
  if (error === null)
    return (
      <Room className="px-0! pt-0!">
        <Loading what={what} rows={rows} />
      </Room>
    );
  return (
    <Room>
      <h1 className="sr-only">{what}</h1>
      <Failure error={error} />
      <Button className="ml-16" onClick={() => void cache.invalidateQueries()}>
        Try again
      </Button>
    </Room>
  );
}
