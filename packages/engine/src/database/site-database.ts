import type { ByteString, KeyOrder } from '@tessarion/core';

/** How to reach one database, with a login's password. */
export interface DatabaseLogin {
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly password: string;
}

export interface ColumnShape {
  readonly name: string;
  readonly type: string;
  readonly generated: boolean;
  /** Longest text in characters, where the type has a limit. */
  readonly maxLength: number | undefined;
  readonly isText: boolean;
}

export interface TableShape {
  readonly schema: string;
  readonly name: string;
  readonly columns: readonly ColumnShape[];
  /** Columns that name a row; empty where the table has none. */
  readonly key: readonly string[];
  readonly keyOrders: readonly KeyOrder[];
  /** Tables that this one refers to by declared foreign keys. */
  readonly references: readonly {
    readonly columns: readonly string[];
    readonly table: string;
    readonly targetColumns: readonly string[];
  }[];
  readonly rowTriggers: readonly string[];
}

export interface SequenceShape {
  readonly schema: string;
  readonly name: string;
  /** `schema.table` and column that draw from it, where it belongs to one. */
  readonly ownedBy: { readonly table: string; readonly column: string } | undefined;
  readonly last: string;
  readonly called: boolean;
}

export interface ExtensionShape {
  readonly name: string;
  /** The schema that its things lie in. */
  readonly schema: string;
}

export interface SchemaShape {
  /** Such as `PostgreSQL 15.18`. */
  readonly server: string;
  readonly tables: readonly TableShape[];
  readonly sequences: readonly SequenceShape[];
  readonly extensions: readonly ExtensionShape[];
}

/** The name by which a table goes in change sets and manifests. */
export const fullName = (table: { readonly schema: string; readonly name: string }): string =>
  `${table.schema}.${table.name}`;

/** The name by which profiles speak of a table: without the default schema. */
export const profileName = (table: { readonly schema: string; readonly name: string }): string =>
  table.schema === 'public' ? table.name : fullName(table);

/** One consistent view of a database: everything read through it belongs to one moment. */
export interface DatabaseView {
  readonly schema: SchemaShape;
  /** Size on disk in bytes, of the database as a whole. */
  readonly bytes: number;
  /** Rows as COPY text, whole lines, in canonical key order; tables without a key in no order. */
  readRows(table: TableShape): AsyncIterable<ByteString>;
  countRows(table: TableShape): Promise<number>;
  /** The schema in SQL: what comes before the rows (tables), or after (indexes, constraints, triggers). */
  dumpSchema(section: 'before' | 'after'): Promise<Buffer>;
  close(): Promise<void>;
}
