import type { JSX, ReactNode } from 'react';
import { Icon } from './icon.js';
import { Failure, Loading } from './states.js';

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
  tableLook,
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
  readonly tableLook?: string;
  /** What stands beside the list. */
  readonly children: ReactNode;
}): JSX.Element {
  const headLook = ({ look }: Column<T>): string | undefined => (typeof look === 'string' ? look : undefined);
  const lookOf = ({ look }: Column<T>, one: T): string | undefined => (typeof look === 'function' ? look(one) : look);
  return (
    <main className="people">
      <section className="slab tableroom">
        <div className="tools">
          <h1>{title}</h1>
          {legend}
          <span className="sp" />
          {act && (
            <button type="button" className={act.isMain ? 'btn main' : 'btn'} onClick={() => choose('new')}>
              <Icon name="plus" />
              {act.words}
            </button>
          )}
        </div>
        {read.isPending ? (
          <Loading what={read.what} rows={read.rows} />
        ) : read.isLoadingError ? (
          <Failure error={read.error} />
        ) : items.length === 0 ? (
          empty
        ) : (
          <div className="scroll">
            <table className={tableLook}>
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
                  <tr key={idOf(one)} className={idOf(one) === at ? 'cur' : ''}>
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
      <aside tabIndex={0} aria-label="More" className="slab people-aside">
        {children}
      </aside>
    </main>
  );
}

/** What opens a line of a list: its name, as a button that looks like text. */
export function Opens({ open, children }: { readonly open: () => void; readonly children: ReactNode }): JSX.Element {
  return (
    <button type="button" className="cell-link" onClick={open}>
      <b>{children}</b>
    </button>
  );
}
