import { z } from 'zod';

/** Formats of docs/formats.md. Hashes are lower-case hex SHA-256 of the plain content. */
export const Sha256 = z.string().regex(/^[0-9a-f]{64}$/);

/** A table of a snapshot: its shape, and where its rows are stored. */
export const TableManifest = z.object({
  schema: z.string(),
  name: z.string(),
  columns: z.array(z.object({ name: z.string(), type: z.string(), generated: z.boolean() })),
  /** Key columns in order; empty where the table has no key and its rows are a multiset ordered by their bytes. */
  key: z.array(z.string()),
  keyOrders: z.array(z.enum(['integer', 'bytes'])),
  contents: z.enum(['rows', 'structure']),
  rows: z.number().int(),
  bytes: z.number().int(),
  /** Blob whose lines are `HASH ROWS` for each block in order; absent when there are no rows. */
  blocks: Sha256.optional(),
});
export type TableManifest = z.infer<typeof TableManifest>;

/** A sequence of a snapshot, and where it stood. */
export const SequenceManifest = z.object({
  schema: z.string(),
  name: z.string(),
  last: z.string(),
  called: z.boolean(),
});
export type SequenceManifest = z.infer<typeof SequenceManifest>;

/** A database of a snapshot. */
export const DatabaseManifest = z.object({
  name: z.string(),
  server: z.string(),
  /** Blobs with the schema in SQL: what comes before the rows, and what comes after. */
  schemaBefore: Sha256,
  schemaAfter: Sha256,
  extensions: z.array(z.string()),
  tables: z.array(TableManifest),
  sequences: z.array(SequenceManifest),
});
export type DatabaseManifest = z.infer<typeof DatabaseManifest>;

/** A file root of a snapshot; sizes in bytes. */
export const RootManifest = z.object({
  name: z.string(),
  /** Blob with the listing of the top folder. */
  tree: Sha256,
  files: z.number().int(),
  bytes: z.number().int(),
});
export type RootManifest = z.infer<typeof RootManifest>;

/** The document at the top of a snapshot; docs/formats.md describes all of it. */
export const SnapshotManifest = z.object({
  format: z.literal('tessarion-snapshot/1'),
  id: z.string(),
  site: z.string(),
  environment: z.string(),
  kind: z.enum(['dev', 'staging', 'live']),
  takenAt: z.string(),
  profile: z.object({ name: z.string(), version: z.number().int() }).nullable(),
  databases: z.array(DatabaseManifest),
  roots: z.array(RootManifest),
  /** Only in the lower image of a baseline: rows that the two environments know by different keys. */
  pairs: z.array(z.object({ table: z.string(), lower: z.string(), upper: z.string() })).optional(),
  /** Only there, too: differences of how tables are made that somebody has decided about, by id. */
  seen: z.array(z.string()).optional(),
});
export type SnapshotManifest = z.infer<typeof SnapshotManifest>;

/** One entry of a folder listing; a listing is one JSON object a line, ordered by the names' bytes. */
export const TreeEntry = z.discriminatedUnion('type', [
  z.object({ type: z.literal('folder'), name: z.string(), mode: z.number().int(), tree: Sha256 }),
  z.object({
    type: z.literal('file'),
    name: z.string(),
    mode: z.number().int(),
    size: z.number().int(),
    pieces: z.array(Sha256),
    /** Hash without spellings, of a file whose addresses or settings were replaced by tokens. */
    plain: Sha256.optional(),
  }),
  z.object({ type: z.literal('link'), name: z.string(), target: z.string() }),
]);
/** Names and targets are byte strings: every char code is one byte. */
export type TreeEntry = z.infer<typeof TreeEntry>;
