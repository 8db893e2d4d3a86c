import type { ByteString, KeyOrder, KeyRange, NameInDatabase, TableName } from '@tessarion/core';

/** How to reach one database, with a login's password. */
export interface DatabaseLogin {
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly password: string;
}

/** A database of an environment: as the profile calls it, and how it is reached. */
export interface SiteDatabase {
  readonly name: string;
  readonly login: DatabaseLogin;
}

/** A column of a table. */
export interface ColumnShape {
  readonly name: string;
  readonly type: string;
  readonly generated: boolean;
  /** Longest text in characters, where the type has a limit. */
  readonly maxLength: number | undefined;
  readonly isText: boolean;
  /** Whether it takes no null. */
  readonly isRequired: boolean;
  /** Whether a new row gets a value there of which it says nothing. */
  readonly isFilled: boolean;
}

/** A table, and how it is made. */
export interface TableShape extends TableName {
  readonly columns: readonly ColumnShape[];
  /** Columns that name a row; empty where the table has none. */
  readonly key: readonly string[];
  readonly keyOrders: readonly KeyOrder[];
  /** Tables that this one refers to by declared foreign keys. */
  readonly references: readonly {
    readonly columns: readonly string[];
    readonly table: NameInDatabase;
    readonly targetColumns: readonly string[];
  }[];
  readonly rowTriggers: readonly string[];
  /** Unique indexes over plain columns that are checked row by row, but for the one that names the rows. */
  readonly uniques: readonly UniqueShape[];
  readonly exclusions: readonly ExclusionShape[];
  readonly checks: readonly CheckConstraint[];
  /** How its indexes are made, a line each, but for those of constraints. */
  readonly indexes: string;
}

/** A column of a rule that no two rows may break, by what may be written to it. */
export interface ColumnOfUnique {
  readonly name: string;
  /** The server's own name of the type. */
  readonly type: string;
  readonly isRange: boolean;
  readonly nullable: boolean;
  /** Characters that a text may have at least. */
  readonly length: number;
}

/** A unique index. */
export type UniqueShape = readonly ColumnOfUnique[];

/** An exclusion constraint, or a unique index over expressions, over a part of the rows, or that may be checked late. */
export interface ExclusionShape {
  readonly elements: readonly {
    /** As the server writes it, with everything named in full. */
    readonly expression: string;
    /** Such as `OPERATOR("pg_catalog".&&)`. */
    readonly operator: string;
    /** Where the element is a column. */
    readonly column: ColumnOfUnique | null;
  }[];
  /** Which rows it is for; null for all. */
  readonly predicate: string | null;
  /** All columns that it reads. */
  readonly columns: readonly string[];
  /** Whether it is always checked row by row. */
  readonly isImmediate: boolean;
}

export interface CheckConstraint {
  readonly name: string;
  /** As the server writes it, with everything named in full. */
  readonly expression: string;
  readonly columns: readonly string[];
}

export interface SequenceShape {
  readonly schema: string;
  readonly name: string;
  /** Table and column that draw from it, where it belongs to one. */
  readonly ownedBy: { readonly table: NameInDatabase; readonly column: string } | undefined;
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

/** When a database was read, in its own terms. */
export interface ReadingMoment {
  /** Every transaction before this one had ended. */
  readonly transaction: string;
  /** No transaction from this one on had ended; where none before it was open, it is the same as `transaction`. */
  readonly next: string;
  /** The database itself: what is told of a moment holds only as long as this stays. */
  readonly database: string;
  /** For each table, by its path, what holds as long as nobody made it anew. */
  readonly tables: ReadonlyMap<string, string>;
}

/** What was written to a table since a moment. */
export interface WrittenSince {
  readonly rows: number;
  readonly written: number;
  /** Their keys, where the table's key is one integer column. */
  readonly keys: readonly ByteString[] | 'too many';
}

/** One consistent view of a database: everything read through it belongs to one moment. */
export interface DatabaseView {
  readonly schema: SchemaShape;
  /** Size on disk in bytes, of the database as a whole. */
  readonly bytes: number;
  /**
   * Rows as COPY text, whole lines, in canonical key order; tables without a key in no order. Ranges only for tables
   * whose key is one integer column.
   */
  readRows(table: TableShape, ranges?: readonly KeyRange[]): AsyncIterable<ByteString>;
  countRows(table: TableShape): Promise<number>;
  /** The moment of this view, by which a later one tells what was written since; undefined where nobody can. */
  moment(): Promise<ReadingMoment | undefined>;
  /** Counts a table's rows, and those of them that were written since a moment, which it names where they are not too many. */
  writtenSince(table: TableShape, since: string, most: number): Promise<WrittenSince>;
  /**
   * Counts the rows that were not written since a moment, between boundaries.
   *
   * @param bounds keys in rising order
   * @returns how many lie below the first boundary, then from each on
   */
  countStill(table: TableShape, bounds: readonly ByteString[], since: string): Promise<number[]>;
  /** Which of some keys a table holds. Both only for tables whose key is one integer column. */
  heldKeys(table: TableShape, keys: readonly ByteString[]): Promise<ByteString[]>;
  /** The schema in SQL: what comes before the rows (tables), or after (indexes, constraints, triggers). */
  dumpSchema(section: 'before' | 'after'): Promise<Buffer>;
  close(): Promise<void>;
}
