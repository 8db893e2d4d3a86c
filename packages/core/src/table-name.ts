/** A table of a site: which of its databases it stands in, as the profile calls that, and its own name there. */
export interface TableName extends NameInDatabase {
  readonly database: string;
}

/** A table within one database. */
export interface NameInDatabase {
  /** Empty where the system has no schemas. */
  readonly schema: string;
  readonly name: string;
}

/** The schema that people do not name. */
const USUAL_SCHEMA = 'public';

/** `schema.table`, as change sets name a table beside its database. What would part a schema's name is written as in a URL. */
export const tablePath = ({ schema, name }: NameInDatabase): string =>
  `${MARKED.test(schema) ? schema.replaceAll(/[%./]/g, encodedOf) : schema}.${name}`;

const MARKED = /[%./]/;

const encodedOf = (letter: string): string => `%${letter.charCodeAt(0).toString(16).toUpperCase()}`;

/** Reads what {@link tablePath} wrote; a table's own name may hold dots. */
export function readTablePath(path: string): NameInDatabase {
  const at = path.indexOf('.');
  const schema = path.slice(0, at);
  return { schema: schema.includes('%') ? decodeURIComponent(schema) : schema, name: path.slice(at + 1) };
}

/** `database/schema.table`: tells a table from all others of its site. */
export const tableId = (table: TableName): string => `${table.database}/${tablePath(table)}`;

/** The table that a row change is of. */
export const tableOf = ({ database, table }: { readonly database: string; readonly table: string }): TableName => ({
  database,
  ...readTablePath(table),
});

/** Reads what {@link tableId} wrote. */
export function readTableId(id: string): TableName {
  const at = id.indexOf('/');
  return { database: id.slice(0, at), ...readTablePath(id.slice(at + 1)) };
}

/** Whether two tables of one database, or of the same one in two environments, are called alike. */
export const isCalledAlike = (a: NameInDatabase, b: NameInDatabase): boolean =>
  a.schema === b.schema && a.name === b.name;

/** A table within its database as profiles and people call it: without the usual schema. */
export const tableLabel = ({ schema, name }: NameInDatabase): string =>
  schema === USUAL_SCHEMA || schema === '' ? name : `${schema}.${name}`;
