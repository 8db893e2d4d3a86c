import { Failure } from '@tessarion/contract';
import { TableManifest } from '@tessarion/core';
import { z } from 'zod';
import { firstOf } from './inputs.js';

/** The two images of a pair that a transfer found, by which an undo goes back. */
const FormerBaseline = z.object({
  lower: z.string(),
  upper: z.string(),
  lowerManifest: z.string(),
  upperManifest: z.string(),
});

/** What is asked of a transfer after it has ended, for as long as it is on record. */
const Outcome = z.object({
  /** Something of it can be seen: it is not stopped any more, only taken back. */
  pastSwitch: z.boolean(),
  /** It wrote anything. */
  changes: z.boolean(),
  /** How long visitors waited at most, in milliseconds; null where the front that knew it died. */
  heldMs: z.number().nullable(),
  /** Triggers and types made something else of its rows than was written. */
  isReadBack: z.boolean(),
  /** Both images of the baseline moved on alike, as they do wherever nothing is masked: one set is recorded for both. */
  isOneImage: z.boolean(),
  formerBaseline: FormerBaseline,
});

const Database = z.object({
  name: z.string(),
  system: z.string().optional(),
  host: z.string(),
  port: z.number(),
  database: z.string(),
  user: z.string(),
  password: z.string(),
});

const Scheme = z.enum(['http', 'https']);
const Location = z.object({
  name: z.string(),
  scheme: Scheme,
  host: z.string(),
  port: z.number().exactOptional(),
  path: z.string(),
  otherPort: z.number().exactOptional(),
});

const Root = z.object({ name: z.string(), path: z.string(), isPlain: z.boolean().exactOptional() });

const Settings = z.record(z.string(), z.string());

const Transaction = z.object({ database: z.string(), id: z.string() });

/** What the steps of a push, a pull, an undo or a restore onto live find and do. */
const Delivery = z.object({
  /** What visitors can add to, as it was before. */
  collected: z.array(
    z.object({
      database: z.string(),
      table: z.string(),
      rows: z.number(),
      keys: z.object({ highest: z.string(), sum: z.string() }).nullable(),
    }),
  ),
  /** Tables of which somebody wrote a value by hand. */
  editedTables: z.array(z.string()),
  /** Rows that both ends know by different keys from now on. */
  pairs: z.array(z.object({ table: z.string(), from: z.string(), to: z.string() })),
  schemaChanges: z.array(
    z.object({
      id: z.string(),
      database: z.string(),
      statements: z.array(z.string()),
      revert: z.array(z.string()),
      isIndex: z.boolean(),
    }),
  ),
  /** Ids of those that were begun. */
  madeSchema: z.array(z.string()),
  /** How the images of tables look from now on. */
  reshaped: z.array(
    TableManifest.pick({ schema: true, name: true, columns: true, key: true, keyOrders: true }).extend({
      database: z.string(),
      fills: z.record(z.string(), z.string().nullable()).exactOptional(),
    }),
  ),
  /** Differences of how tables are made that somebody has decided about. */
  decided: z.array(z.string()),
  chosenTasks: z.array(z.string()),
  /** How the site's pages answered before. */
  health: z.array(z.object({ path: z.string(), isWell: z.boolean(), answer: z.string() })),
  /** Its visitors do not come through the gateway. */
  notHeld: z.boolean(),
  /** The hold that is asked for, and for how long it lasts where nobody keeps it. */
  lease: z.string().optional(),
  leaseMs: z.number(),
  /** Roots of which a new tree was staged. */
  roots: z.array(z.object({ root: z.string(), from: z.string(), ownSince: z.string().exactOptional() })),
  /** Tasks wrote into the new trees. */
  tasksWrote: z.boolean(),
  /** Transactions in which its rows were written, and in which they were taken back; committed or not. */
  transactions: z.array(Transaction),
  transactionsBack: z.array(Transaction),
  /** What could not be written, or taken back, in words. */
  remains: z.array(z.string()),
  /** An undo that leaves something of what it takes back. */
  leavesSome: z.boolean(),
});

/** What the steps of a transfer find and do, each noted before it is done: later steps and a recovery go by it. */
const Data = Outcome.extend(Delivery.shape)
  .extend({
    /** Why it is put back, once it is. */
    putBackBecause: Failure,
    /** The snapshot that is taken. */
    snapshot: z.string(),
    /** When the destination of a request was copied for its preview. */
    copiedAt: z.string(),
    /** What is linked to, and goes back to where the link is. */
    returns: z.array(z.object({ link: z.string(), lies: z.string() })),
    /** A reset's new databases and settings, and what was in use before. */
    prepared: z.object({
      databases: z.array(Database),
      settings: Settings,
      former: z.object({ databases: z.array(Database), trees: z.array(z.string()) }),
    }),
    /** Where a copy lies under its new name. */
    place: z.object({
      folder: z.string(),
      addresses: z.array(Location.extend({ aliases: z.array(Location) })),
      roots: z.array(Root),
      databases: z.array(Database),
      settings: Settings,
    }),
    /** Where it lay. */
    former: z.object({ folder: z.string(), databases: z.array(Database), server: z.string() }),
  })
  .partial();

/** As it is read: nobody changes what is on record in place. */
type Kept<T> = T extends readonly (infer One)[]
  ? readonly Kept<One>[]
  : T extends object
    ? { readonly [K in keyof T]: Kept<T[K]> }
    : T;

/** What the steps of a transfer find and do. */
export type TransferData = Kept<z.infer<typeof Data>>;

const PastOutcome = Outcome.partial();

/** What is asked of a transfer after it has ended. */
export type TransferOutcome = Kept<z.infer<typeof PastOutcome>>;

/**
 * What is asked of a transfer after it has ended, of all that its steps noted.
 *
 * @throws {z.ZodError} where it was written by a version that meant something else by it
 */
export const outcomeOf = (noted: unknown): TransferOutcome => PastOutcome.parse(noted);

/**
 * All that its steps noted, for who goes on with it.
 *
 * @throws {Error} where it was written by a version that meant something else by it
 */
export function dataOf({ id, noted }: { readonly id: string; readonly noted: unknown }): TransferData {
  const found = Data.safeParse(noted);
  if (found.success) return found.data;
  throw new Error(`transfer ${id}: what its steps noted is not understood (${firstOf(found.error)})`);
}
