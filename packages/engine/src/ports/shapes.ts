import type { Duplex } from 'node:stream';
import type { KeyOrder, NameInDatabase, TableName } from '@tessarion/core';

/** Opens connections from a server, to addresses as they are called there. */
export interface Carrier {
  /** What people call the server. */
  readonly called: string;
  /** @throws {EngineError} `server-unreachable`, or what the machine itself would where nobody listens there */
  dial(host: string, port: number): Promise<Duplex>;
}

/** How to reach one database, with a login's password. */
export interface DatabaseLogin {
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly password: string;
  /** By way of which it is reached; straight where there is none. */
  readonly by?: Carrier | undefined;
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
  /** Whether its key is one column that draws new rows' values from a counter. */
  readonly drawsKey: boolean;
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
  /** Whether it is over whole columns and all rows, so that what it takes for the same is told by their values. */
  readonly isPlain: boolean;
}

/** A condition that every row of a table meets. */
export interface CheckConstraint {
  readonly name: string;
  /** As the server writes it, with everything named in full. */
  readonly expression: string;
  readonly columns: readonly string[];
}

/** A counter, and where it stands: `last` is given out already where `called`. */
export interface SequenceShape {
  readonly schema: string;
  readonly name: string;
  /** Table and column that draw from it, where it belongs to one. */
  readonly ownedBy: { readonly table: NameInDatabase; readonly column: string } | undefined;
  readonly last: string;
  readonly called: boolean;
}

/** A package of types and functions that a database has. */
export interface ExtensionShape {
  readonly name: string;
  /** The schema that its things lie in. */
  readonly schema: string;
}

/** How a database is made. */
export interface SchemaShape {
  /** Such as `PostgreSQL 15.18`. */
  readonly server: string;
  readonly tables: readonly TableShape[];
  readonly sequences: readonly SequenceShape[];
  readonly extensions: readonly ExtensionShape[];
}

/** Columns whose values are read and written; generated ones are computed by the server. */
export const readable = (table: Pick<TableShape, 'columns'>): TableShape['columns'] =>
  table.columns.filter((column) => !column.generated);

/** Columns that no two rows may have alike together, but for the key. */
export const plainUniques = ({ uniques, exclusions }: TableShape): (readonly string[])[] => [
  ...uniques.map((columns) => columns.map(({ name }) => name)),
  ...exclusions.flatMap(({ isPlain, columns }) => (isPlain ? [columns] : [])),
];

/** A table's key column, where it is a single one of whole numbers. */
export const integerKey = ({ key, keyOrders }: Pick<TableShape, 'key' | 'keyOrders'>): string | undefined =>
  key.length === 1 && keyOrders[0] === 'integer' ? key[0] : undefined;
