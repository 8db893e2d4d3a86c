import { z } from 'zod';
import { Id, Sentence, Time } from './shapes.js';

/** Guests: people without an account, who look at previews and variants by a link. */

/** One thing that a guest looks at: a change request by its preview, or a variant. */
export const GuestLook = z.object({
  position: z.number().int(),
  title: z.string(),
  request: Id.nullable(),
  environment: z.string().nullable(),
  /** The guest's yes, and whether it is of the request as it is now. */
  yes: z.object({ at: Time, revision: z.number().int(), isCurrent: z.boolean() }).nullable(),
});

/** A link, as colleagues see it; what it leads to is told once, when it is made. */
export const GuestLink = z.object({
  id: Id,
  site: z.string(),
  name: z.string(),
  mail: z.string().nullable(),
  words: z.string(),
  by: z.string(),
  createdAt: Time,
  expiresAt: Time,
  endedAt: Time.nullable(),
  isOpen: z.boolean(),
  lastSeenAt: Time.nullable(),
  hasPasscode: z.boolean(),
  looks: z.array(GuestLook),
  /** Position of what the guest chose, of several. */
  choice: z.number().int().nullable(),
  chosenAt: Time.nullable(),
  /** What was said about variants; about requests it is said there. */
  threads: z.array(
    z.object({
      id: Id,
      position: z.number().int(),
      comments: z.array(z.object({ by: z.string(), isGuest: z.boolean(), text: z.string(), at: Time })),
    }),
  ),
});
export type GuestLink = z.infer<typeof GuestLink>;

/** A conversation that a guest takes part in, as they see it. */
export const GuestThread = z.object({
  id: Id,
  isResolved: z.boolean(),
  comments: z.array(z.object({ by: z.string(), isOwn: z.boolean(), text: z.string(), at: Time })),
});
export type GuestThread = z.infer<typeof GuestThread>;

/** What a guest sees of one thing. */
export const GuestSight = z.object({
  position: z.number().int(),
  title: z.string(),
  is: z.enum(['request', 'variant']),
  /** `behind`: it is being worked on, and what can be looked at is not what would be written. */
  state: z.enum(['ready', 'making', 'behind', 'delivered', 'gone']),
  /** When live was as it is there. */
  at: Time.nullable(),
  revision: z.number().int().nullable(),
  /** What a request would write, in one sentence. */
  sentence: Sentence,
  items: z.array(z.object({ kind: z.string(), title: z.string(), change: z.string() })),
  mayApprove: z.boolean(),
  yes: z.object({ at: Time, isCurrent: z.boolean() }).nullable(),
  threads: z.array(GuestThread),
});
export type GuestSight = z.infer<typeof GuestSight>;

/** All that a guest sees. */
export const GuestRoom = z.object({
  name: z.string(),
  /** Whose site it is. */
  client: z.string(),
  words: z.string(),
  by: z.string(),
  expiresAt: Time,
  looks: z.array(GuestSight),
  choice: z.number().int().nullable(),
});
export type GuestRoom = z.infer<typeof GuestRoom>;
