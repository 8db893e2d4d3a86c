import {
  DATABASE_SYSTEMS,
  DataClass,
  EnvironmentKind,
  MAX_NAME_LENGTH,
  NAME_PATTERN,
  PERMISSIONS,
  type Permission as PermissionName,
  ShowAs,
} from '@tessarion/core';
import { z } from 'zod';

/** Building blocks of requests and responses. Times are RFC 3339 in UTC; sizes are bytes. */

/** A name that people give and type: of a site, an environment, a server, a role and the like. */
export const Name = z
  .string()
  .max(MAX_NAME_LENGTH, `at most ${MAX_NAME_LENGTH} characters`)
  .regex(NAME_PATTERN, 'use lower-case letters, digits and single dashes, beginning with a letter');
/** The folder of a site that its web server serves: whatever it is called there, but for the layout's own. */
export const RootName = z
  .string()
  .regex(/^[A-Za-z0-9_][A-Za-z0-9._-]{0,63}$/, 'use letters, digits, dots, dashes and underscores')
  .refine((name) => name !== 'trees' && name !== 'keep', 'trees and keep are folders of the layout');
/** An environment with its site: `site/environment`. */
export const EnvironmentPath = z
  .string()
  .regex(/^[a-z][a-z0-9-]*\/[a-z][a-z0-9-]*$/, 'write site/environment')
  .max(80);
/** An id of something on record: what it is in one to three letters, and ten random characters. */
export const Id = z.string().regex(/^[a-z]{1,3}-[0-9a-z]{10}$/, 'is no id; they look like t-8k2m4q9x1c');
/** A moment, in UTC. */
export const Time = z.iso.datetime();
/** An address under which a site answers, with its path where it has one. */
export const BaseUrl = z
  .string()
  .max(200)
  .regex(
    /^https?:\/\/[a-z0-9.-]+(?::\d{1,5})?(?:\/[A-Za-z0-9._~/-]*)?$/,
    'write a base URL such as https://shop.example',
  );

/** Somebody who has, or had, an account. */
export const Person = z.object({ id: Id, name: z.string(), mail: z.string() });
export type Person = z.infer<typeof Person>;

/** Something that one may be allowed to do (core, `PERMISSIONS`). */
export const Permission = z.enum(Object.keys(PERMISSIONS) as [PermissionName, ...PermissionName[]]);

/** For what something is given: `everything`, `client:NAME`, a site, or `site/environment`. */
export const ScopeText = z
  .string()
  .max(140)
  .regex(
    /^(?:everything|client:.{1,120}|[a-z][a-z0-9-]*(?:\/[a-z][a-z0-9-]*)?)$/,
    'write everything, client:NAME, a site, or site/environment',
  );

/** Entity tag of what an edit can change of a thing, without its quotes; sent back as `If-Match`. */
export const Etag = z.string();

/** A set of permissions under one name. */
export const Role = z.object({
  name: Name,
  title: z.string(),
  permissions: z.array(Permission),
  /** Ready-made roles cannot be changed. */
  isReady: z.boolean(),
  etag: Etag,
});
export type Role = z.infer<typeof Role>;

/** A role that a person or a team has, and for what. */
export const RoleGiven = z.object({ id: Id, role: z.string(), scope: ScopeText, team: z.string().nullable() });
export type RoleGiven = z.infer<typeof RoleGiven>;

/** A person with their teams and roles, as far as the caller may see them. */
export const Colleague = Person.extend({
  state: z.enum(['invited', 'active', 'ended']),
  teams: z.array(z.string()),
  roles: z.array(RoleGiven),
  lastSeenAt: Time.nullable(),
});
export type Colleague = z.infer<typeof Colleague>;

/** People who are given roles, and asked for review, together. */
export const Team = z.object({
  name: Name,
  title: z.string(),
  members: z.array(Person),
  roles: z.array(RoleGiven),
  /** Of title and members. */
  etag: Etag,
});
export type Team = z.infer<typeof Team>;

/** Who is signed in, and what they may do somewhere. */
export const Me = Person.extend({
  permissions: z.array(Permission),
  roles: z.array(RoleGiven),
  /** What each role that they have allows them for what, as it decides (core, `decide`); a token's limit is taken out. */
  grants: z.array(z.object({ role: z.string(), permissions: z.array(Permission), scope: ScopeText })),
});
export type Me = z.infer<typeof Me>;

/** A browser in which one is signed in; `from` is the address that it came from. */
export const Session = z.object({
  id: Id,
  createdAt: Time,
  expiresAt: Time,
  lastSeenAt: Time.nullable(),
  from: z.string().nullable(),
  isThis: z.boolean(),
});
export type Session = z.infer<typeof Session>;

/** An act on record: who did what to which thing, and what came of it. */
export const JournalEntry = z.object({
  id: Id,
  /** Place in the sealed chain; null while it waits for its seal. */
  position: z.number().int().nullable(),
  at: Time,
  actor: z.string(),
  /** Name of who acted, and from where; null once that was erased. */
  name: z.string().nullable(),
  from: z.string().nullable(),
  act: z.string(),
  outcome: z.enum(['done', 'refused', 'failed']),
  thing: z.string(),
  /** What people call what it is about: the title of a request, the name of a person; null where `thing` says it. */
  called: z.string().nullable(),
  details: z.record(z.string(), z.unknown()),
});
export type JournalEntry = z.infer<typeof JournalEntry>;

/** How far the journal reached, signed by the installation. */
export const JournalHead = z.object({
  position: z.number().int().min(1),
  seal: z.string().max(100),
  at: Time,
  signature: z.string().max(100),
});

export type JournalHead = z.infer<typeof JournalHead>;

/** What verifying the journal has shown. */
export const JournalVerdict = z.object({
  /** Entries whose seal was checked. */
  checked: z.number().int(),
  /** Entries that wait for their seal. */
  unsealed: z.number().int(),
  faults: z.array(z.object({ what: z.string(), position: z.number().int().nullable(), words: z.string() })),
  /** Where the chain was last written down outside the records. */
  head: JournalHead.nullable(),
});
export type JournalVerdict = z.infer<typeof JournalVerdict>;

/** A piece of a sentence, and how it is set off. */
export const SentencePiece = z.object({ text: z.string(), tone: z.enum(['plain', 'strong', 'path', 'needs-you']) });
/** What something does, in a sentence of which pieces are set off. */
export const Sentence = z.array(SentencePiece);

/** Why something failed: a stable code such as `outdated`, what happened, and what to do next. */
export const Failure = z.object({ code: z.string(), message: z.string(), next: z.string() });
export type Failure = z.infer<typeof Failure>;

/** How an environment stands, the worst first. */
export const EnvironmentState = z.enum(['not-reached', 'failed', 'working', 'frozen', 'drifted', 'in-step']);
export type EnvironmentState = z.infer<typeof EnvironmentState>;

/** What a transfer does. */
export const TransferKind = z.enum([
  'adopt',
  'clone',
  'preview',
  'push',
  'pull',
  'reset',
  'restore',
  'undo',
  'rename',
  'snapshot',
  'remove',
  'leave',
]);
export type TransferKind = z.infer<typeof TransferKind>;

/** `undone`: a later transfer took it back, or a failed check did; `remains` tells what could not be taken back. */
export const TransferState = z.enum(['waiting', 'running', 'stopping', 'done', 'failed', 'stopped', 'undone']);
export type TransferState = z.infer<typeof TransferState>;

/** Why a call is refused (RFC 9457), what to do next, and which fields are wrong. */
export const Problem = z.object({
  type: z.string(),
  title: z.string(),
  status: z.number().int(),
  detail: z.string(),
  next: z.string().optional(),
  fields: z.array(z.object({ path: z.string(), message: z.string() })).optional(),
});
export type Problem = z.infer<typeof Problem>;

/** One thing that was looked at, what was found, and what would mend it. */
export const Check = z.object({
  name: z.string(),
  state: z.enum(['passed', 'warning', 'failed']),
  message: z.string(),
  remedy: z.string().optional(),
});
export type Check = z.infer<typeof Check>;

/** How far a running transfer is. */
export const Progress = z.object({
  step: z.string(),
  files: z.number(),
  rows: z.number(),
  bytes: z.number(),
  /** Expected bytes, where past runs or measured sizes tell. */
  totalBytes: z.number().nullable(),
});
export type Progress = z.infer<typeof Progress>;

/** A step of a transfer; `detail` says in a few words what it did. */
export const Step = z.object({
  name: z.string(),
  title: z.string(),
  state: z.enum(['coming', 'running', 'done', 'failed']),
  startedAt: Time.nullable(),
  endedAt: Time.nullable(),
  detail: z.string().nullable(),
});
export type Step = z.infer<typeof Step>;

/** How many things of a kind, with the kind's name in both numbers. */
export const Amount = z.object({ count: z.number().int(), kind: z.string(), plural: z.string() });

/** A transfer as lists show it. */
export const Transfer = z.object({
  id: Id,
  kind: TransferKind,
  state: TransferState,
  from: z.string().nullable(),
  onto: z.string(),
  site: z.string(),
  sentence: Sentence,
  person: z.string(),
  createdAt: Time,
  startedAt: Time.nullable(),
  endedAt: Time.nullable(),
  progress: Progress.nullable(),
  /** 1 is next; null when it is not waiting. */
  placeInLine: z.number().int().nullable(),
  failure: Failure.nullable(),
  /** The change request that it delivers. */
  request: Id.nullable(),
  /** Why it went past approval and claims, and why outside a window or in a freeze; null where it did not. */
  urgent: z.string().nullable(),
  override: z.string().nullable(),
  undoOf: Id.nullable(),
  undoneBy: Id.nullable(),
  canUndo: z.boolean(),
  canStop: z.boolean(),
  acknowledged: z.boolean(),
});
export type Transfer = z.infer<typeof Transfer>;

/** An item that a transfer has written; `detail` names what of it changed. */
export const WrittenItem = z.object({
  kind: z.string(),
  title: z.string(),
  change: z.enum(['new', 'changed', 'deleted']),
  detail: z.string(),
});

/** A transfer in full. */
export const TransferDetail = Transfer.extend({
  steps: z.array(Step),
  checks: z.array(Check),
  /** What was found when the destination was read again afterwards, point by point. */
  proof: z.array(Check),
  warnings: z.array(z.string()),
  written: z.array(Amount),
  items: z.array(WrittenItem),
  remains: z.array(z.string()),
  files: z.number(),
  rows: z.number(),
  bytes: z.number(),
  forecast: Id.nullable(),
  log: z.array(z.object({ at: Time, text: z.string() })),
});
export type TransferDetail = z.infer<typeof TransferDetail>;

const Weekday = z.number().int().min(1).max(7);

/** Brings news into a copy by itself, at a time of day in the site's time zone; on all days when none is named (1 is Monday). */
export const PullSchedule = z.object({
  from: EnvironmentPath,
  at: z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'write a time of day such as 03:30'),
  days: z.array(Weekday),
  last: z
    .object({
      at: Time,
      outcome: z.enum(['begun', 'nothing', 'stopped']),
      text: z.string(),
      forecast: Id.nullable(),
      transfer: Id.nullable(),
    })
    .nullable(),
});
export type PullSchedule = z.infer<typeof PullSchedule>;

/** An environment in full. */
export const Environment = z.object({
  path: EnvironmentPath,
  site: z.string(),
  name: z.string(),
  kind: EnvironmentKind,
  state: EnvironmentState,
  /** What the state means, in words; empty when there is nothing to say. */
  reason: z.string(),
  addresses: z.array(z.object({ name: z.string(), url: z.string() })),
  editorsUrl: z.string().nullable(),
  madeFrom: z.string().nullable(),
  /** The environment of another site that what it holds came from. */
  foreignOrigin: z.string().nullable(),
  madeAt: Time,
  /** When news from its source last came in; null for live. */
  refreshedAt: Time.nullable(),
  size: z.object({ files: z.number(), fileBytes: z.number(), rows: z.number(), databaseBytes: z.number() }).nullable(),
  server: z.string(),
  hasGate: z.boolean(),
  databases: z.array(z.string()),
  /** `isPlain`: it lies as it was found, and no push switches its files in one step. */
  roots: z.array(z.object({ name: z.string(), path: z.string(), isPlain: z.boolean() })),
  /** Items that wait to go up from here, and that live changed itself, as the last forecast found them. */
  drift: z
    .object({
      up: z.number().int(),
      down: z.number().int(),
      at: Time,
      /** What waits, as far as it is told here: the first of them. */
      first: z.array(z.object({ kind: z.string(), title: z.string(), change: z.enum(['new', 'changed', 'deleted']) })),
    })
    .nullable(),
  /** What people say of it, such as what a variant is for. */
  description: z.string().nullable(),
  schedule: PullSchedule.nullable(),
  /** Of description and schedule. */
  etag: Etag,
  /** The change request that it shows; null for one that people work in. */
  preview: z.object({ request: Id, revision: z.number().int() }).nullable(),
  running: Transfer.nullable(),
  last: Transfer.nullable(),
});
export type Environment = z.infer<typeof Environment>;

/** A site with its environments. */
export const Site = z.object({
  name: z.string(),
  client: z.string(),
  profile: z.string().nullable(),
  profileVersion: z.number().int().nullable(),
  timeZone: z.string(),
  /** Words by which sites are put together. */
  tags: z.array(z.string()),
  /** Of profile and tags. */
  etag: Etag,
  environments: z.array(Environment),
});
export type Site = z.infer<typeof Site>;

/** An environment as it is shown among all: nothing that has to be opened for it, and nothing that nobody reads there. */
export const FleetEnvironment = Environment.pick({
  path: true,
  site: true,
  name: true,
  kind: true,
  state: true,
  reason: true,
  refreshedAt: true,
  server: true,
}).extend({
  drift: z.object({ up: z.number().int(), down: z.number().int(), at: Time }).nullable(),
  running: Transfer.pick({
    id: true,
    kind: true,
    state: true,
    from: true,
    onto: true,
    startedAt: true,
    progress: true,
  }).nullable(),
  last: Transfer.pick({ id: true, kind: true, state: true, endedAt: true }).nullable(),
});
export type FleetEnvironment = z.infer<typeof FleetEnvironment>;

/** A change request as far as it concerns who looks at all sites. */
export const FleetRequest = z.object({
  id: Id,
  title: z.string(),
  state: z.enum(['in-review', 'returned', 'approved', 'scheduled', 'blocked', 'delivering']),
  from: z.string(),
  onto: z.string(),
  openThreads: z.number().int(),
  /** Collisions that wait for a decision. */
  unsettled: z.number().int(),
  deliverAt: Time.nullable(),
});
export type FleetRequest = z.infer<typeof FleetRequest>;

/** A site as it is shown among all. */
export const FleetSite = Site.pick({ name: true, client: true, tags: true }).extend({
  environments: z.array(FleetEnvironment),
  /** Until when a freeze keeps deliveries from live; null without one. */
  frozenUntil: Time.nullable(),
  /** Those that are neither drafts nor over. */
  requests: z.array(FleetRequest),
});
export type FleetSite = z.infer<typeof FleetSite>;

/** One time that a thing came to an environment, changed there, or went. */
export const ItemVisit = z.object({
  /** As the environment knows it. */
  item: z.string(),
  title: z.string(),
  /** What it was called there before; null where it kept its title. */
  formerTitle: z.string().nullable(),
  /** What it is, such as `page`. */
  itemKind: z.string(),
  change: z.enum(['new', 'changed', 'deleted']),
  transfer: Id,
  kind: TransferKind,
  from: z.string().nullable(),
  at: Time,
  person: z.string(),
  /** The transfer that took it back. */
  undoneBy: Id.nullable(),
  /** Whether the transfer can be taken back. */
  canUndo: z.boolean(),
  urgent: z.string().nullable(),
  override: z.string().nullable(),
  /** The change request that it was a part of. */
  request: z.object({ id: Id, title: z.string(), author: z.string() }).nullable(),
  approvedBy: z.array(z.string()),
});
export type ItemVisit = z.infer<typeof ItemVisit>;

/** The name and password that open a copy's gate; null where it has none. */
export const Login = z.object({
  environment: EnvironmentPath,
  gate: z.object({ user: z.string(), password: z.string() }).nullable(),
});

const Take = z.enum(['source', 'destination', 'edited']);

/** How a person settled a collision; `value` only for an edited one. */
export const Settlement = z.strictObject({ take: Take, value: z.string().nullable().optional() });

/** What a person wants moved, and how collisions are settled: one by one by their ids or items', the others by a rule. */
export const ForecastWishes = z.strictObject({
  only: z.array(z.string().min(1)).max(1000),
  except: z.array(z.string().min(1)).max(1000),
  settlements: z.record(z.string(), Settlement),
  rest: z.enum(['source', 'destination']).nullable(),
  /** Tasks that change the schema and are to run; the others run by themselves. */
  tasks: z.array(z.string().min(1)).max(50).optional(),
});
export type ForecastWishes = z.infer<typeof ForecastWishes>;

/** A field of an item, with its value on each side. */
export const ForecastField = z.object({
  name: z.string(),
  /** What people call it, how its values are shown, and whether it stands behind the others: keys and bookkeeping. */
  label: z.string(),
  show: ShowAs,
  isHidden: z.boolean(),
  /** What both had in common, what the source has, what the destination has now, and what it will have. */
  base: z.string().nullable(),
  source: z.string().nullable(),
  before: z.string().nullable(),
  after: z.string().nullable(),
  /** The collision in this field. */
  collision: z.string().nullable(),
});
export type ForecastField = z.infer<typeof ForecastField>;

/** Something that both ends changed, in which ways it may be settled, and how it is. */
export const ForecastCollision = z.object({
  id: z.string(),
  words: z.string(),
  field: z.string().nullable(),
  allowed: z.array(Take),
  settled: z.object({ take: Take, value: z.string().nullable() }).nullable(),
});
export type ForecastCollision = z.infer<typeof ForecastCollision>;

/** Who changed a thing and when, as its row says. */
export const Stamp = z.object({ at: Time.nullable(), by: z.string().nullable() });
export type Stamp = z.infer<typeof Stamp>;

/** One thing that a transfer would write, keep or ask about: a row with what belongs to it, or a file. */
export const ForecastItem = z.object({
  id: z.string(),
  kind: z.string(),
  title: z.string(),
  key: z.string(),
  part: z.string(),
  change: z.enum(['new', 'changed', 'deleted']),
  fields: z.array(ForecastField),
  collisions: z.array(ForecastCollision),
  outcome: z.enum(['written', 'needs-you', 'kept', 'left-out']),
  overwrites: z.boolean(),
  reason: z.string(),
  /** The item that cannot go without this one, where nobody chose this one itself. */
  takenAlongFor: z.string().nullable(),
  /** What on the destination refers to it, for things that are there already. */
  usedBy: z.array(Amount),
  /** Who changed it last on each end and when, where its row says so. */
  changed: z.object({ source: Stamp.nullable(), destination: Stamp.nullable() }),
  hash: z.string(),
});
export type ForecastItem = z.infer<typeof ForecastItem>;

/** How much of a table or an area would be written; bytes are those of files. */
export const ForecastPart = z.object({
  name: z.string(),
  type: z.enum(['table', 'area']),
  inserted: z.number().int(),
  updated: z.number().int(),
  deleted: z.number().int(),
  bytes: z.number(),
});

/** What a transfer would do, before anybody confirms it. */
export const Forecast = z.object({
  id: Id,
  state: z.enum(['computing', 'ready', 'failed']),
  from: z.string(),
  onto: z.string(),
  snapshot: Id.nullable(),
  /** The transfer that would be undone; `from` and `onto` are one then. */
  undoes: Id.nullable(),
  /** A `merge` keeps what the destination made itself; `replace` makes the source's of it. */
  method: z.enum(['merge', 'replace']),
  direction: z.enum(['up', 'down']),
  wishes: ForecastWishes,
  createdAt: Time,
  failure: Failure.nullable(),
  sentence: Sentence,
  button: z.string(),
  /** Items in which something is still to be settled. */
  unsettled: z.number().int(),
  written: z.array(Amount),
  kept: z.array(Amount),
  neverMoves: z.array(z.object({ table: z.string(), because: z.string() })),
  lost: z.array(Amount),
  /** Tables that changed on the source and that nobody has given a class. */
  unclassified: z.array(z.object({ database: z.string(), table: z.string(), rows: z.number().int() })),
  parts: z.array(ForecastPart),
  /** Addresses, folders and settings that are written with the destination's own, by table and column. */
  rewrites: z.array(z.object({ table: z.string(), column: z.string(), count: z.number().int() })),
  /** Tables that are written, and the triggers on them that fire. */
  touched: z.array(z.object({ table: z.string(), rows: z.number().int(), triggers: z.array(z.string()) })),
  /** What the profile runs with it, in order; those that change the schema only when they are chosen. */
  tasks: z.array(
    z.object({
      name: z.string(),
      phase: z.enum(['staged', 'held', 'after']),
      command: z.array(z.string()),
      changesSchema: z.boolean(),
      runs: z.boolean(),
    }),
  ),
  checks: z.array(Check),
  estimateSeconds: z.number().nullable(),
  holdMilliseconds: z.number().nullable(),
  baselineAt: Time.nullable(),
  fingerprint: z.string(),
  itemCount: z.number().int(),
});
export type Forecast = z.infer<typeof Forecast>;

/** A file of a forecast's item as one side has it; values of settings are shown by their names. */
export const ShownFile = z.discriminatedUnion('is', [
  z.object({ is: z.literal('text'), text: z.string() }),
  /** `content` in Base64. */
  z.object({ is: z.literal('picture'), type: z.string(), content: z.string() }),
  z.object({ is: z.literal('other'), bytes: z.number() }),
  z.object({ is: z.literal('absent') }),
]);
export type ShownFile = z.infer<typeof ShownFile>;

/** A snapshot of an environment; `addedBytes` is what it takes up beside those before it. */
export const Snapshot = z.object({
  id: Id,
  environment: z.string(),
  site: z.string(),
  kind: EnvironmentKind,
  takenAt: Time,
  reason: z.string(),
  files: z.number(),
  rows: z.number(),
  bytes: z.number(),
  addedBytes: z.number(),
  verifiedAt: Time.nullable(),
  damage: z.array(z.object({ hash: z.string(), holds: z.string(), message: z.string() })),
});
export type Snapshot = z.infer<typeof Snapshot>;

/** A version of a profile or of a part, and the sites that it reaches. */
export const ProfileVersion = z.object({
  name: z.string(),
  version: z.number().int(),
  title: z.string(),
  /** A part says what one extension brings along; a profile is composed of a base, parts and lines of its own. */
  kind: z.enum(['profile', 'part']),
  base: z.string().nullable(),
  parts: z.array(z.string()),
  createdAt: Time,
  person: z.string(),
  sites: z.array(z.string()),
  /** Of the newest version: its number. */
  etag: Etag,
});

/** Databases and folders that an installation made, and that belong to nothing that it knows. */
export const LeftBehind = z.object({ databases: z.array(z.string()), folders: z.array(z.string()) });

/** The kinds of databases that sites may have. */
export const DatabaseSystem = z.enum(DATABASE_SYSTEMS);

/** A machine that is logged in to by SSH. */
export const SshMachine = z.strictObject({
  host: z.string().regex(/^[A-Za-z0-9:][A-Za-z0-9.:_-]*$/),
  port: z.number().int().min(1).max(65_535),
  user: z.string().regex(/^[A-Za-z0-9_][A-Za-z0-9_.@-]*$/),
});
export type SshMachine = z.infer<typeof SshMachine>;

/** A server on which environments live, and how it stands now. */
export const Server = z.object({
  name: z.string(),
  /** How it is logged in to; null where it is the machine that Tessarion itself runs on. */
  ssh: SshMachine.extend({
    /** The fingerprint of its host key, once somebody has confirmed it. */
    hostKey: z.string().nullable(),
    jump: SshMachine.extend({ hostKey: z.string().nullable() }).nullable(),
    /** Lines for `authorized_keys` of the server, and of the machine on the way. */
    keyLines: z.object({ server: z.string(), jump: z.string().nullable() }),
  }).nullable(),
  folder: z.string(),
  baseDomain: z.string(),
  database: z.string(),
  reached: z.boolean(),
  freeBytes: z.number().nullable(),
  /** Databases there that the login of every site may open; null where it is not known. */
  openToAll: z.array(z.string()).nullable(),
  leftBehind: LeftBehind.extend({
    /** Why it is not known what is left behind; null where it is. */
    notKnown: z.string().nullable(),
  }),
});
export type Server = z.infer<typeof Server>;

/** A key by which a program calls in a person's name. */
export const Token = z.object({
  id: Id,
  name: z.string(),
  createdAt: Time,
  expiresAt: Time.nullable(),
  lastUsedAt: Time.nullable(),
  /** What it is limited to; null for all that its owner may do. */
  permissions: z.array(Permission).nullable(),
  scope: ScopeText,
});

export { DataClass, EnvironmentKind };
