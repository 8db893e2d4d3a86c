/** A column and its table, as a profile calls it. */
export interface ColumnPlace {
  readonly table: string;
  readonly column: string;
}

/** Reads `table.column` or `schema.table.column`, as references write it. */
export function columnPlace(text: string): ColumnPlace {
  const at = text.lastIndexOf('.');
  return { table: text.slice(0, at), column: text.slice(at + 1) };
}
