import type { JSX, ReactNode } from 'react';
import { useKeys } from '../keys.js';
import { Button } from './button.js';
import { Icon } from './icon.js';
import { RoomHead } from './room.js';
import { Failure, Loading } from './states.js';

/** A column of a list. */
export interface Column<T> {
  readonly head: ReactNode;
  readonly cell: (one: T) => ReactNode;
  /** Of the head and of every cell; or of each cell, by what is in it. */
  readonly look?: string | ((one: T) => string);
  /** Whole, on hover, where the cell may be cut. */
  readonly whole?: (one: T) => string;
}

/** A room that is a list of things, one of which is open beside it. */
export function ListRoom<T>({
  title,
  legend,
  act,
  read,
  items,
  idOf,
  at,
  choose,
  columns,
  empty,
  more,
  children,
}: {
  readonly title: string;
  readonly legend?: ReactNode;
  /** What makes another one; absent for who may not. */
  readonly act?: { readonly words: string; readonly isMain?: boolean } | undefined;
  readonly read: {
    readonly isPending: boolean;
    readonly isLoadingError: boolean;
    readonly error: unknown;
    /** What is being read, and about how many lines that makes. */
    readonly what: string;
    readonly rows: number;
  };
  readonly items: readonly T[];
  readonly idOf: (one: T) => string;
  /** Which one is open, or `new`. */
  readonly at: string;
  readonly choose: (id: string) => void;
  /** The first one says which thing it is, and opens it. */
  readonly columns: readonly Column<T>[];
  readonly empty: ReactNode;
  /** Below the list, such as the way to older ones. */
  readonly more?: ReactNode;
  /** What stands beside the list. */
  readonly children: ReactNode;
}): JSX.Element {
  // Up and down the list; what one comes to is open.
  const move = (step: number): void => {
    const here = items.findIndex((one) => idOf(one) === at);
    const next = items[Math.min(items.length - 1, Math.max(0, here + step))];
    if (next) choose(idOf(next));
  };
  useKeys([
    { key: 'j', does: 'Next row', act: () => move(1) },
    { key: 'k', does: 'Previous row', act: () => move(-1) },
  ]);
  const headLook = ({ look }: Column<T>): string | undefined => (typeof look === 'string' ? look : undefined);
  const lookOf = ({ look }: Column<T>, one: T): string | undefined => (typeof look === 'function' ? look(one) : look);
  return (
    <main className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_320px] gap-2 max-wide:grid-cols-1 max-wide:content-start max-wide:overflow-auto">
      <section className="flex min-h-0 flex-1 flex-col bg-slab max-wide:overflow-visible">
        <RoomHead>
          <h1 className="text-title">{title}</h1>
          {legend}
          <span className="flex-1 max-desk:hidden" />
          {act && (
            <Button main={act.isMain} onClick={() => choose('new')}>
              <Icon name="plus" />
              {act.words}
            </Button>
          )}
        </RoomHead>
        {read.isPending ? (
          <Loading what={read.what} rows={read.rows} />
        ) : read.isLoadingError ? (
          <Failure error={read.error} />
        ) : items.length === 0 ? (
          empty
        ) : (
          <div className="flex-1 overflow-auto">
            <table>
              <thead>
                <tr>
                  {columns.map((column, i) => (
                    <th key={i} className={headLook(column)}>
                      {column.head}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {items.map((one) => (
                  <tr
                    key={idOf(one)}
                    aria-current={idOf(one) === at || undefined}
                    className={idOf(one) === at ? 'bg-accent-tint shadow-at' : ''}
                  >
                    {columns.map((column, i) => (
                      <td key={i} className={lookOf(column, one)} title={column.whole?.(one)}>
                        {column.cell(one)}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {more}
          </div>
        )}
      </section>
      <aside
        tabIndex={0}
        aria-label="More"
        className="overflow-auto bg-slab px-16 pt-12 pb-24 max-wide:overflow-visible"
      >
        {children}
      </aside>
    </main>
  );
}

/** What opens a line of a list: its name, as a button that looks like text. */
export function Opens({ open, children }: { readonly open: () => void; readonly children: ReactNode }): JSX.Element {
  return (
    <button type="button" className="inline-block max-w-full truncate align-bottom hover:text-accent" onClick={open}>
      <b>{children}</b>
    </button>
  );
}
