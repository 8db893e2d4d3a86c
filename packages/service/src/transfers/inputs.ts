import type { TransferKind } from '@tessarion/contract';
import { z } from 'zod';

/** Where a copy's content comes from. */
const Origin = z.union([z.object({ from: z.string() }), z.object({ snapshot: z.string() })]);
export type Origin = z.infer<typeof Origin>;

const LeftOut = z.object({ tables: z.array(z.string()), areas: z.array(z.string()), paths: z.array(z.string()) });

const Nothing = z.object({});

/** What a copy is made of, and what of it somebody has accepted. */
const Copy = z.object({
  origin: Origin,
  /** The environment whose form and profile the copy takes; for a snapshot the one it was taken of. */
  source: z.string(),
  acceptTraces: z.array(z.string()).optional(),
  acceptPersonal: z.string().optional(),
});

const Clone = Copy.extend({ leftOut: LeftOut.optional() });

/** `exact`: a copy's own snapshot comes back exactly; anything else comes masked, as in a clone. */
const Reset = Copy.extend({ exact: z.boolean() });

const Push = z.object({ forecast: z.string(), from: z.string(), snapshot: z.string().optional() });

const Restore = z.discriminatedUnion('onto', [
  Push.required({ snapshot: true }).extend({ onto: z.literal('live') }),
  Reset.extend({ onto: z.literal('copy') }),
]);

/** What each kind of transfer is given, as it is on record. */
const INPUTS = {
  adopt: Nothing,
  clone: Clone,
  leave: Nothing,
  preview: z.object({
    request: z.string(),
    revision: z.number(),
    /** Of that revision: exactly what it shows is written. */
    forecast: z.string(),
    /** The environment that the request would write onto. */
    of: z.string(),
    from: z.string(),
    /** The transfer that the request takes back. */
    undoes: z.string().nullable(),
  }),
  pull: Push,
  push: Push,
  remove: Nothing,
  rename: z.object({
    /** The copy as it was called before. */
    from: z.string(),
    name: z.string(),
  }),
  reset: Reset,
  restore: Restore,
  snapshot: z.object({ reason: z.string() }),
  undo: Push,
} as const satisfies Record<TransferKind, z.ZodType>;

/** What each kind of transfer is given. */
export type Inputs = { readonly [K in TransferKind]: z.infer<(typeof INPUTS)[K]> };

/** What a push, a pull, an undo or a restore onto live is given. */
export type PushInput = z.infer<typeof Push>;

/** What a reset, or a restore onto a copy, is given. */
export type ResetInput = z.infer<typeof Reset>;

/** The first thing that is wrong, and where. */
export const firstOf = ({ issues: [first] }: z.ZodError): string => `${first?.path.join('.')}: ${first?.message}`;

/**
 * What a transfer was given.
 *
 * @param kinds those that it can be of here
 * @throws {Error} where it is of another kind, or its record holds what this version does not understand
 */
export function inputOf<K extends TransferKind>(
  { id, kind, input }: { readonly id: string; readonly kind: TransferKind; readonly input: unknown },
  ...kinds: readonly K[]
): Inputs[K] {
  if (!kinds.some((one) => one === kind)) throw new Error(`transfer ${id} is a ${kind}, not a ${kinds.join(' or ')}`);
  const found = INPUTS[kind].safeParse(input);
  if (found.success) return found.data as Inputs[K];
  throw new Error(`transfer ${id}: what it was given is not understood (${firstOf(found.error)})`);
}

type Given = Parameters<typeof inputOf>[0];

/** What a push, a pull, an undo or a restore onto live was given. @throws {Error} as {@link inputOf} */
export function pushInput(transfer: Given): PushInput {
  const input = inputOf(transfer, 'push', 'pull', 'undo', 'restore');
  if ('origin' in input) throw new Error(`transfer ${transfer.id} restores a copy`);
  return input;
}

/** What a reset, or a restore onto a copy, was given. @throws {Error} as {@link inputOf} */
export function resetInput(transfer: Given): ResetInput {
  const input = inputOf(transfer, 'reset', 'restore');
  if (!('origin' in input)) throw new Error(`transfer ${transfer.id} restores live`);
  return input;
}
