/** Something that was looked at before anything is done; what failed must be mended first. */
export interface Check {
  name: string;
  state: 'passed' | 'warning' | 'failed';
  message: string;
  /** What to do about it. */
  remedy?: string | undefined;
}

/** What a person wants of a transfer. */
export interface TransferWishes {
  readonly only: readonly string[];
  readonly except: readonly string[];
  /** By the names of collisions. */
  readonly settlements: Readonly<
    Record<string, { readonly take: 'source' | 'destination' | 'edited'; readonly value?: string | null | undefined }>
  >;
  /** For collisions that nobody settled one by one. */
  readonly rest: 'source' | 'destination' | null;
  /** Tasks that change the schema and are to run. */
  readonly tasks?: readonly string[] | undefined;
}

/** A table that is written, and what fires there. */
export interface TouchedTable {
  table: string;
  rows: number;
  triggers: string[];
}

/** A task of the profile, and whether it runs with a transfer. */
export interface ListedTask {
  name: string;
  phase: 'staged' | 'held' | 'after';
  command: string[];
  changesSchema: boolean;
  runs: boolean;
}
