import type { SettingsFormat } from '../settings-file.js';

/** What was seen of a running site before it has a profile. Samples are values as text; none of them is ever written down. */
export interface SiteFacts {
  readonly databases: readonly { readonly name: string; readonly tables: readonly TableFacts[] }[];
  readonly folders: readonly FolderFacts[];
  /** Text files that hold an address of the site. */
  readonly texts: readonly string[];
  readonly configurations: readonly ConfigurationFacts[];
}

/** What a database says of a column. */
export interface ColumnFacts {
  readonly name: string;
  readonly type: string;
  readonly isText: boolean;
  readonly isNullable: boolean;
  /** Up to a few hundred values that are not null. */
  readonly samples: readonly string[];
}

/** What a database says of a table. */
export interface TableFacts {
  /** As a profile calls it: without the default schema. */
  readonly name: string;
  readonly columns: readonly ColumnFacts[];
  readonly key: readonly string[];
  /** The key is drawn from a counter. */
  readonly drawsKey: boolean;
  readonly uniques: readonly (readonly string[])[];
  /** Declared references of one column. */
  readonly references: readonly { readonly column: string; readonly table: string; readonly target: string }[];
  readonly rows: number;
  /** What the server counted since it began to. */
  readonly written: { readonly inserted: number; readonly updated: number; readonly deleted: number } | undefined;
  /** Rows in snapshots, oldest first. */
  readonly history: readonly { readonly at: string; readonly rows: number }[];
  /** Values that were looked up in tables which their column's or member's name speaks of. */
  readonly lookups: readonly Lookup[];
}

/** How many of a column's values stand as keys in another table. */
export interface Lookup {
  readonly column: string;
  /** Where the values stand inside documents. */
  readonly path: string | undefined;
  /** Only in rows in which this column holds this value. */
  readonly when: { readonly column: string; readonly value: string } | undefined;
  readonly table: string;
  readonly target: string;
  /** Distinct values looked up, and how many were found. */
  readonly asked: number;
  readonly found: number;
}

/** A folder of a file root, and how many files lie below it. */
export interface FolderFacts {
  /** Relative to the root. */
  readonly path: string;
  readonly files: number;
}

/** A file of settings, and those of its keys whose values are facts of the environment. */
export interface ConfigurationFacts {
  readonly file: string;
  readonly format: SettingsFormat;
  readonly keys: readonly { readonly key: string; readonly is: SettingFact | undefined }[];
}

/** What a setting's value is a copy of. */
export type SettingFact =
  | { readonly address: string; readonly as: 'url' | 'host' }
  | { readonly database: string; readonly part: 'host' | 'port' | 'name' | 'user' | 'password' | 'url' }
  | { readonly root: string };

/** How sure a suggestion is: `open` ones are for people to decide. */
export type Certainty = 'sure' | 'likely' | 'open';

/** One rule that a first profile gets, or for `open` ones could get. */
export interface Suggestion<T> {
  readonly value: T;
  readonly certainty: Certainty;
  readonly reason: string;
}
