import { z } from 'zod';
import { readKeyPath } from '../values/keys-inside.js';

/** The document described in docs/profile.md. A profile never holds a secret. */

const Identifier = z
  .string()
  .regex(/^[a-z][a-z0-9-]{0,31}$/, 'use lower-case letters, digits and dashes, at most 32, beginning with a letter');
const RelativePath = z
  .string()
  .min(1)
  .max(500)
  .refine(
    (path) => !path.startsWith('/') && !path.split('/').some((part) => part === '..' || part === ''),
    'use a path below the root, without ".." or a leading slash',
  );
const Condition = z
  .record(z.string().min(1), z.array(z.string()).min(1))
  .refine((all) => Object.keys(all).length > 0, 'name at least one column');

/** Whose work a table, column or area holds; docs/profile.md tells what follows from each. */
export const DataClass = z.enum(['authored', 'collected', 'local', 'derived', 'unclassified']);
export type DataClass = z.infer<typeof DataClass>;

/** What an environment is for, from the lowest to the highest. */
export const EnvironmentKind = z.enum(['dev', 'staging', 'live']);
export type EnvironmentKind = z.infer<typeof EnvironmentKind>;

const WholeMask = z.union([
  z.enum(['mail', 'name', 'phone', 'street', 'date', 'internet-address', 'free-text', 'null', 'keep']),
  z.strictObject({ fixed: z.string() }),
]);

/** A path into a JSON document or serialised value. */
const InnerPath = z.string().refine((path) => readKeyPath(path) !== undefined, 'write a path such as "$.rows[*].page"');

/** What becomes of a personal value on its way down. */
export const MaskRule = z.union([
  ...WholeMask.options,
  z.strictObject({
    inside: z.record(InnerPath, WholeMask).refine((all) => Object.keys(all).length > 0, 'name at least one path'),
  }),
]);
export type MaskRule = z.infer<typeof MaskRule>;

/** How people read a column: words, an HTML page, a path of a picture, an amount of money, a moment. */
export const ShowAs = z.enum(['text', 'page', 'picture', 'money', 'moment']);
export type ShowAs = z.infer<typeof ShowAs>;

const Column = z.strictObject({
  class: DataClass.optional(),
  label: z.string().min(1).max(60).optional(),
  hidden: z.boolean().optional(),
  show: ShowAs.optional(),
  rewrite: z.enum(['addresses', 'never']).optional(),
  'bare-hosts': z.boolean().optional(),
  paths: z.enum(['rewrite', 'refuse']).optional(),
  personal: MaskRule.optional(),
  merge: z.enum(['members']).optional(),
});
/** What a profile says of a column. */
export type ColumnRule = z.infer<typeof Column>;

const Table = z.strictObject({
  class: DataClass,
  key: z.array(z.string().min(1)).min(1).optional(),
  'natural-key': z.array(z.string().min(1)).min(1).optional(),
  columns: z.record(z.string().min(1), Column).optional(),
  rows: z.array(z.strictObject({ when: Condition, class: DataClass })).optional(),
  staff: Condition.optional(),
});
/** What a profile says of a table. */
export type TableRule = z.infer<typeof Table>;

/** Tables outside the usual schema go by both names, and those of which several databases have one by their database too. */
const ColumnName = z
  .string()
  .regex(
    /^([a-z][a-z0-9-]{0,31}\/)?[^.].*\.[^.]+$/,
    'write table.column, schema.table.column or database/table.column',
  );

const Reference = z.strictObject({
  from: ColumnName,
  to: ColumnName,
  when: Condition.optional(),
  path: InnerPath.optional(),
});

/** What a profile says of a column, or a place within its values, that holds keys of a table. */
export type ReferenceRule = z.infer<typeof Reference>;

const Item = z.union([
  z.strictObject({
    kind: Identifier,
    plural: z.string().optional(),
    table: z.string().min(1),
    title: z.string().min(1),
    dependants: z.array(z.strictObject({ table: z.string().min(1), column: z.string().min(1) })).optional(),
    changed: z
      .strictObject({ at: z.string().min(1), by: z.string().min(1).optional(), name: ColumnName.optional() })
      .refine(({ by, name }) => name === undefined || by !== undefined, 'give "by" beside "name"')
      .optional(),
  }),
  z.strictObject({ kind: Identifier, plural: z.string().optional(), files: z.string().min(1) }),
]);
/** What a profile says of a kind of thing that people know by a title. */
export type ItemRule = z.infer<typeof Item>;

const FileSpot = z.strictObject({
  file: RelativePath,
  format: z.enum(['env', 'ini', 'json', 'yaml']),
  key: z.string().min(1),
});
const RowSpot = z.strictObject({
  table: z.string().min(1),
  row: z.record(z.string(), z.string()),
  column: z.string().min(1),
});

const ValueByKind = z.strictObject({ dev: z.string(), staging: z.string(), live: z.string() });

/** Where a setting's value comes from: fixed for each kind, or a fact of the environment itself. */
const SettingSource = z.union([
  z.strictObject({ address: Identifier, as: z.enum(['url', 'host']).optional() }),
  z.strictObject({ database: Identifier, part: z.enum(['url', 'host', 'port', 'name', 'user', 'password']) }),
  z.strictObject({ root: z.string().regex(/^[A-Za-z0-9_][A-Za-z0-9._-]{0,63}$/, 'name the folder of a root') }),
  z.strictObject({ generate: z.enum(['key']) }),
  z.strictObject({ own: z.literal(true) }),
]);

const Setting = z
  .strictObject({
    name: z.string().regex(/^[a-z][a-z0-9-]{0,47}$/, 'use lower-case letters, digits and dashes'),
    title: z.string().optional(),
    in: z.union([FileSpot, RowSpot]),
    values: ValueByKind.optional(),
    from: SettingSource.optional(),
    'bound-to-address': z.boolean().optional(),
    secret: z.boolean().optional(),
  })
  .refine(
    (setting) => (setting.values === undefined) !== (setting.from === undefined),
    'give either "values" or "from"',
  );
/** What a profile says of a value that each environment has of its own. */
export type SettingRule = z.infer<typeof Setting>;

const Area = z.strictObject({
  name: Identifier,
  path: z.union([z.literal('.'), RelativePath]),
  class: DataClass,
  text: z.array(z.string().min(1)).optional(),
});
/** What a profile says of a part of a file root. */
export type AreaRule = z.infer<typeof Area>;

const Task = z.strictObject({
  name: Identifier,
  command: z.array(z.string().min(1)).min(1),
  phase: z.enum(['staged', 'held', 'after']),
  'changes-schema': z.boolean().optional(),
});
/** What a profile says of a program that runs during a delivery. */
export type TaskRule = z.infer<typeof Task>;

const Page = z.strictObject({
  path: z.string().startsWith('/'),
  contains: z.string().optional(),
  address: Identifier.optional(),
});

/** What uses files: every row of a table, or those that name the file in a column. */
const Mention = z.strictObject({
  in: z.union([
    z.string().regex(/^[^.]+(\.[^.]+)?$/, 'name a table, or a column as "table.column"'),
    z.strictObject({ table: z.string().min(1), column: z.string().min(1).optional() }),
  ]),
  files: z.string().min(1),
});
/** What a profile says of rows or a column that use files. */
export type MentionRule = z.infer<typeof Mention>;

/** A whole profile, composed of its layers. */
export const ProfileSchema = z.strictObject({
  tessarion: z.literal('profile/1'),
  name: Identifier,
  title: z.string().min(1).max(120),
  areas: z.array(Area).min(1),
  links: z.enum(['rewrite', 'refuse']).optional(),
  databases: z.record(Identifier, z.strictObject({ tables: z.record(z.string().min(1), Table) })).optional(),
  references: z.array(Reference).optional(),
  items: z.array(Item).optional(),
  mentions: z.array(Mention).optional(),
  settings: z.array(Setting).optional(),
  tasks: z.array(Task).optional(),
  pages: z.array(Page).optional(),
  editors: z.strictObject({ path: z.string().startsWith('/') }).optional(),
});
/** What {@link ProfileSchema} lets through. */
export type Profile = z.infer<typeof ProfileSchema>;

/**
 * One document: a profile of its own, the lines that a site adds to a base and parts, or a part, which says what one
 * extension brings along. What a later layer says of the same thing counts.
 */
export const LayerSchema = ProfileSchema.extend({
  tessarion: z.enum(['profile/1', 'part/1']),
  base: Identifier.optional(),
  parts: z.array(Identifier).optional(),
  areas: z.array(Area).optional(),
  databases: z
    .record(
      Identifier,
      z.strictObject({ tables: z.record(z.string().min(1), Table.extend({ class: DataClass.optional() })) }),
    )
    .optional(),
});
/** What {@link LayerSchema} lets through. */
export type LayerDocument = z.infer<typeof LayerSchema>;
