import type {
  ByteString,
  KeyRange,
  Misfit,
  NameInDatabase,
  Rewriter,
  RowChange,
  SchemaMaking,
  TableMake,
  TableName,
} from '@tessarion/core';
import type { AppliedRows, Mode, Protection, ReadBack, WrittenRow } from './rows.js';
import type { DatabaseLogin, SchemaShape, SequenceShape, TableShape } from './shapes.js';

/** A database of an environment: as the profile calls it, how it is reached, and the system that it is kept in. */
export interface SiteDatabase {
  readonly name: string;
  readonly login: DatabaseLogin;
  readonly system: DatabaseSystem;
}

/** What a system can do; a forecast says in words what is promised without. */
export interface DatabaseAbilities {
  /** Changes of tables are undone with their transaction. */
  readonly transactionalDdl: boolean;
  /** Readers of one view may work side by side. */
  readonly parallelReaders: boolean;
  /** It tells which rows were written since a moment ({@link DatabaseView.moment}). */
  readonly toldSince: boolean;
  /** A database is divided into schemas. */
  readonly schemas: boolean;
}

/** A kind of database: all that is done to sites' databases goes by way of it. */
export interface DatabaseSystem {
  /** As records and logins name it, such as `postgresql`. */
  readonly name: string;
  readonly can: DatabaseAbilities;
  /** Tries whether a login is let in. @param patienceMs for the answer to each try @throws {EngineError} `database-unreachable`, `database-refused` */
  reach(login: DatabaseLogin, patienceMs?: readonly number[]): Promise<void>;
  /** A login as programs of sites are told it in one word (a connection URI). */
  urlOf(login: DatabaseLogin): string;
  /** Whether a login may do more than use its own database, such as reach the other ones. */
  isStrong(login: DatabaseLogin): Promise<boolean>;
  /** Opens one consistent view. @throws {EngineError} also `schema-unsupported` for what cannot be read faithfully */
  view(database: SiteDatabase): Promise<DatabaseView>;
  /** Opens a session for questions. @param purpose names it on the server */
  ask(database: SiteDatabase, purpose: string): Promise<Questions>;
  /** Opens a session that writes rows. @param purpose names the transfer, so that a successor can end the session */
  write(database: SiteDatabase, purpose: string, mode: Mode): Promise<RowWriter>;
  /** Opens a fresh database to be filled. */
  load(login: DatabaseLogin): Promise<Loader>;
  /**
   * Draws keys for new rows from a table's own counter, as the site itself would. Keys that rows have, or that others
   * bring along, are passed over. No view of the database may be open: where a counter moves by a change of the table, that
   * change would wait for it.
   *
   * @throws {EngineError} `outdated` when the table has no counter any more
   */
  drawKeys(
    database: SiteDatabase,
    table: TableName,
    column: string,
    many: number,
    avoid: ReadonlySet<string>,
  ): Promise<ByteString[]>;
  /** How tables are made, as far as two environments can differ in it. @param called what people call a table */
  makes(
    database: SiteDatabase,
    tables: readonly TableShape[],
    called: (table: TableShape) => string,
  ): Promise<ReadonlyMap<string, TableMake>>;
  /** How differences of tables are written in its language. */
  readonly making: SchemaMaking;
  /**
   * Changes how a table is made: all or nothing where that is possible, without visitors waiting behind it.
   *
   * @param isBeside made beside the work of visitors, outside of a transaction
   * @throws {EngineError} `schema-unsupported` in the server's words
   */
  changeTables(login: DatabaseLogin, statements: readonly string[], isBeside: boolean, purpose: string): Promise<void>;
  /** Refreshes what the server knows of how values are spread; a fresh database is slow without. */
  refreshStatistics(login: DatabaseLogin): Promise<void>;
  /** What became of a writer's {@link Written.mark}. */
  fateOf(login: DatabaseLogin, mark: string): Promise<'committed' | 'open' | 'gone'>;
  /** Ends a login's own sessions for a purpose, whoever opened them. */
  endSessions(login: DatabaseLogin, purpose: string): Promise<void>;
  /** The making and removing of databases on one server. */
  administration(server: ServerLogin): Administration;
  /** What a database is like apart from what is in it, so that another one can be made like it. */
  likeness(login: DatabaseLogin): Promise<DatabaseLikeness>;
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

/** Counts rows that refer to some keys. */
export interface Referring {
  readonly table: TableShape;
  readonly column: string;
  readonly keys: readonly ByteString[];
  /** Only rows that hold one of these in a column. */
  readonly when?: Readonly<Record<string, readonly string[]>>;
  /** The different values of this column are counted in place of rows. */
  readonly distinct?: string | undefined;
  /** Rows of the table, by their keys, that are passed over. */
  readonly without?: readonly (readonly (ByteString | null)[])[];
}

/** Counts rows that hold some texts. */
export interface Mentioning {
  readonly table: TableShape;
  /** Without a column every row does. */
  readonly searches: readonly { readonly column: string | undefined; readonly texts: readonly ByteString[] }[];
  /** The different values of this column are counted in place of rows. */
  readonly distinct?: string | undefined;
}

/** What a table holds at one moment: enough to tell later whether each of its rows is still there. */
export interface HeldRows {
  readonly rows: number;
  /** The highest key and a sum over what keys hash to; null where the key is not one integer column, or there are no rows. */
  readonly keys: { readonly highest: string; readonly sum: string } | null;
}

/** Values of a table's columns, as text. */
export interface Samples {
  /** How many rows were looked at. */
  readonly rows: number;
  /** By column; null and bytes are left out. */
  readonly values: ReadonlyMap<string, readonly string[]>;
  readonly nullable: ReadonlySet<string>;
}

/** What a server has counted of a table. */
export interface TableCounts {
  readonly rows: number;
  readonly inserted: number;
  readonly updated: number;
  readonly deleted: number;
}

/** A column of text that cannot hold everything. */
export interface LimitedColumn {
  readonly name: string;
  /** In characters; undefined where only a check constraint limits it. */
  readonly maxLength: number | undefined;
}

/** A session for questions about what a database holds now. Values and keys are given and got as byte strings, as the view writes them. */
export interface Questions {
  readonly schema: SchemaShape;
  /**
   * Rows whose columns hold one of some combinations of values, as the database compares them: lines as
   * {@link DatabaseView.readRows} writes them, with all readable columns.
   *
   * @param wanted in the order of `columns`; what holds a null is found nowhere
   */
  rowsWhere(
    table: TableShape,
    columns: readonly string[],
    wanted: readonly (readonly (ByteString | null)[])[],
  ): Promise<ByteString>;
  /** @returns for each key that something refers to, how many */
  countReferring(search: Referring): Promise<ReadonlyMap<ByteString, number>>;
  /** @returns for each text that something holds, how many */
  countMentioning(search: Mentioning): Promise<ReadonlyMap<ByteString, number>>;
  /** Rows that hold one of some combinations: which one (`at`), and the key. */
  holders(
    table: TableShape,
    columns: readonly string[],
    values: readonly (readonly (ByteString | null)[])[],
  ): Promise<{ readonly at: number; readonly key: readonly ByteString[] }[]>;
  /** What rows hold in a column, by the value of their key; null is left out. */
  valuesByKey(
    table: TableShape,
    column: string,
    keys: readonly ByteString[],
  ): Promise<ReadonlyMap<ByteString, ByteString>>;
  /** What one row holds in a column; undefined where there is no such row. */
  cell(
    table: TableShape,
    row: Readonly<Record<string, string>>,
    column: string,
  ): Promise<ByteString | null | undefined>;
  /** @param upTo only keys that are no higher count into the sum */
  heldRows(table: TableShape, upTo?: string): Promise<HeldRows>;
  /** Tries rows against lengths, check constraints and what no two rows may share. */
  tryRows(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]>;
  /** Of that, lengths and check constraints alone. */
  tryValues(table: TableShape, rows: readonly WrittenRow[]): Promise<Misfit[]>;
  /** The columns of a table that may refuse something, and so are looked at by {@link tryRows}. */
  judgedColumns(table: TableShape): ReadonlySet<string>;
  /**
   * Rows that hold one of some words in a limited column where it may not fit once each is longer.
   *
   * @param words in lower case
   * @param growth by how many characters a word may grow
   * @returns all readable columns as text
   */
  crowdedRows(
    table: TableShape,
    columns: readonly LimitedColumn[],
    words: readonly string[],
    growth: number,
    most: number,
  ): Promise<(string | null)[][]>;
  /** The first and last rows' values, each cut to a length. */
  samples(table: TableShape, most: number, length: number): Promise<Samples>;
  /** Different values of a column but for the empty ones and zero; undefined where the server takes too long. */
  differentValues(
    table: TableShape,
    column: string,
    when: { readonly column: string; readonly value: string } | undefined,
    most: number,
  ): Promise<readonly string[] | undefined>;
  /** How many of some values are keys of a table; undefined where they cannot be, or the server takes too long. */
  countKeys(table: TableShape, values: readonly string[]): Promise<number | undefined>;
  /** By {@link tablePath}. */
  counts(): Promise<ReadonlyMap<string, TableCounts>>;
  /** The server's own estimate of all rows, and the size on disk. */
  size(): Promise<{ readonly rows: number; readonly bytes: number }>;
  close(): Promise<void>;
}

/** What a writer wrote and has not committed. */
export interface Written {
  /** By which {@link DatabaseSystem.fateOf} tells later whether it was committed; to be recorded before that. */
  readonly mark: string;
  readonly applied: AppliedRows;
  /** What became of rows in tables with triggers and in unsure ones. */
  readonly read: readonly ReadBack[];
}

/**
 * Applies row changes to one database, all or none. Staging happens before the transaction begins, so that rows are locked
 * only while they are written.
 */
export interface RowWriter {
  readonly schema: SchemaShape;
  /**
   * Takes changes to be written.
   *
   * @param rewriter writes them with the destination's own addresses
   * @param authored the columns of each table (by {@link tablePath}) whose values must be as they were compared
   */
  stage(
    changes: AsyncIterable<RowChange>,
    rewriter: Rewriter,
    authored: (table: string, columns: readonly string[]) => ReadonlySet<string>,
  ): Promise<void>;
  /**
   * Writes everything and stops before the commit; the transaction is open when this returns.
   *
   * @param unsure tables (by {@link tablePath}) whose values may turn out in another spelling than they are written in
   * @param protects what keeps rows of a table
   * @throws {EngineError} `outdated` when anything is not as it was compared (strict)
   */
  write(unsure: ReadonlySet<string>, protects: (table: TableShape) => readonly Protection[]): Promise<Written>;
  commit(): Promise<void>;
  close(): Promise<void>;
}

/** Fills a fresh database: tables, then rows, then what hangs on them. */
export interface Loader {
  /** Runs what {@link DatabaseView.dumpSchema} wrote, all or none. */
  runSchema(sql: Buffer): Promise<void>;
  /** Loads rows given as batches of lines. @returns how many */
  loadRows(table: NameInDatabase, columns: readonly string[], batches: AsyncIterable<ByteString>): Promise<number>;
  setSequences(sequences: readonly Pick<SequenceShape, 'schema' | 'name' | 'last' | 'called'>[]): Promise<void>;
  close(): Promise<void>;
}

/** How a database server is reached to make and remove databases. */
export type ServerLogin = Pick<DatabaseLogin, 'host' | 'port' | 'user' | 'password' | 'by'>;

/** What a database is like apart from what is in it; only its own system understands it. */
export type DatabaseLikeness = { readonly system: string };

/** Makes and removes the databases and logins of environments on one database server. */
export interface Administration {
  /** Whether this login may make databases and other logins. @throws {EngineError} where it cannot log in at all */
  mayProvision(): Promise<boolean>;
  /** Databases that every login of the server may open, whosesoever it is. */
  openToAll(): Promise<string[]>;
  /**
   * Makes a login that may connect to its own, empty database only. Making what is there already starts it anew.
   *
   * @param like what it is to be like; as any other where it is left out
   * @param mark stands as a comment on both, by which they can be found again
   */
  create(
    login: DatabaseLogin,
    like?: DatabaseLikeness,
    more?: { readonly connectionLimit?: number; readonly mark?: string },
  ): Promise<void>;
  /** Removes databases and their logins, ending their sessions; what is not there is no error. */
  drop(...gone: readonly Pick<DatabaseLogin, 'database' | 'user'>[]): Promise<void>;
  /** Databases and logins that have a mark; a database and its login have one name. */
  marked(mark: string): Promise<string[]>;
  hasDatabase(database: string): Promise<boolean>;
  /** What the server is, and the extensions that it could install. */
  offers(): Promise<{ readonly version: string; readonly extensions: ReadonlySet<string> }>;
  /** Ends every session on a database whose purpose begins with some words. */
  endSessions(database: string, purposePrefix: string): Promise<void>;
}
