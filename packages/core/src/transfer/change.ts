import type { ByteString } from '../address/place.js';
import type { RowKey } from '../rows/keys.js';
import { type TableName, tablePath } from '../table-name.js';

/** One row-level or file-level change of a transfer, in canonical form; the line format of a change set. */
export type Change = RowChange | FileChange;

/** What happens to one row. */
export type RowChange = RowInsert | RowUpdate | RowDelete;

interface OnRow {
  readonly part: 'row';
  readonly database: string;
  /** {@link tablePath} within the database; {@link tableOf} reads both. */
  readonly table: string;
  readonly key: RowKey;
  /** In what a baseline's image becomes: the destination's key of the same row, where it is another one. */
  readonly counterpart?: RowKey | undefined;
}

/** A row that comes, with its values by column. */
export interface RowInsert extends OnRow {
  readonly op: 'insert';
  readonly row: Readonly<Record<string, ByteString | null>>;
}

/** Cells of a row that change, by column. */
export interface RowUpdate extends OnRow {
  readonly op: 'update';
  readonly cells: Readonly<Record<string, { readonly before: ByteString | null; readonly after: ByteString | null }>>;
}

/** A row that goes, with the values that it had. */
export interface RowDelete extends OnRow {
  readonly op: 'delete';
  readonly row: Readonly<Record<string, ByteString | null>>;
}

/** What a change says of a cell; undefined where it says nothing. A column may be called what every object has: `constructor`. */
export const cellIn = ({ cells }: RowUpdate, column: string): RowUpdate['cells'][string] | undefined =>
  Object.hasOwn(cells, column) ? cells[column] : undefined;

/** What a row that comes or goes holds in a column; undefined where it says nothing of it. */
export const valueIn = (
  row: Readonly<Record<string, ByteString | null>>,
  column: string,
): ByteString | null | undefined => (Object.hasOwn(row, column) ? row[column] : undefined);

/** What a path holds: nothing, a file's content, or a link. */
export type FileState =
  | { readonly type: 'absent' }
  | {
      readonly type: 'file';
      readonly mode: number;
      readonly size: number;
      readonly pieces: readonly string[];
      /** Hash without spellings, where addresses or settings were replaced by tokens: what comparison goes by. */
      readonly plain?: string | undefined;
    }
  | { readonly type: 'link'; readonly target: ByteString };

/** What a path holds before and after. */
export interface FileChange {
  readonly part: 'file';
  readonly root: string;
  readonly path: ByteString;
  readonly before: FileState;
  readonly after: FileState;
}

type PlaceOfRows = Pick<RowChange, 'database' | 'table'>;

/** Worked out once for each name, and held once however many changes there are. */
const places = new WeakMap<TableName, PlaceOfRows>();

/** How a change names the table that it is of. */
export function placeOfRows(table: TableName): PlaceOfRows {
  const place = places.get(table) ?? { database: table.database, table: tablePath(table) };
  places.set(table, place);
  return place;
}

/** The change that takes a change back. */
export function invert(change: Change): Change {
  if (change.part === 'file') return { ...change, before: change.after, after: change.before };
  const { part, database, table, key } = change;
  switch (change.op) {
    case 'insert':
      return { part, database, table, key, op: 'delete', row: change.row };
    case 'delete':
      return { part, database, table, key, op: 'insert', row: change.row };
    case 'update': {
      const cells = Object.entries(change.cells).map(([column, cell]) => [
        column,
        { before: cell.after, after: cell.before },
      ]);
      return { part, database, table, key, op: 'update', cells: Object.fromEntries(cells) };
    }
  }
}

/** Whether two states are alike: type, mode and content; spellings of addresses do not count. */
export const sameFile = (a: FileState, b: FileState): boolean => {
  if (a.type === 'file' && b.type === 'file' && a.plain !== undefined && b.plain !== undefined)
    return a.mode === b.mode && a.plain === b.plain;
  if (a.type === 'file' && b.type === 'file')
    return (
      a.mode === b.mode && a.pieces.length === b.pieces.length && a.pieces.every((piece, i) => piece === b.pieces[i])
    );
  if (a.type === 'link' && b.type === 'link') return a.target === b.target;
  return a.type === b.type && a.type === 'absent';
};
