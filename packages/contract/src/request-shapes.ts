import { REQUEST_STATES } from '@tessarion/core';
import { z } from 'zod';
import { Amount, Etag, Id, Name, Person, Sentence, Time } from './shapes.js';

/** Change requests, as the interface shows them. */

/** Where a change request stands (core, `REQUEST_STATES`). */
export const RequestState = z.enum(REQUEST_STATES);

/** When somebody wants a request delivered: in the next window, or at a time. */
export const WantedTime = z.union([z.literal('window'), Time]);

/** What a lane asks for before anything goes over it. */
export const LaneRule = z.object({
  site: z.string(),
  /** Kind of what the lane leads onto. */
  onto: z.enum(['staging', 'live']),
  approvals: z.number().int(),
  teams: z.array(z.string()),
  threadsBlock: z.boolean(),
  /** How many guests must say yes to each item, beside the colleagues. */
  guests: z.number().int(),
  etag: Etag,
});
export type LaneRule = z.infer<typeof LaneRule>;

/** Who is asked: a person, or anybody of a team. */
export const Reviewer = z.object({
  person: Person.nullable(),
  team: z.string().nullable(),
  /** What they said last. */
  says: z.enum(['approve', 'return']).nullable(),
  /** Whether they said it of the current revision. */
  isCurrent: z.boolean(),
});
export type Reviewer = z.infer<typeof Reviewer>;

/** Something that a person does by hand before or after a delivery, and who has done it. */
export const ManualStep = z.object({
  id: Id,
  phase: z.enum(['before', 'after']),
  text: z.string(),
  doneBy: z.string().nullable(),
  doneAt: Time.nullable(),
});

/** A change request as lists show it. */
export const ChangeRequest = z.object({
  id: Id,
  site: z.string(),
  from: z.string(),
  onto: z.string(),
  title: z.string(),
  state: RequestState,
  author: Person,
  createdAt: Time,
  updatedAt: Time,
  revision: z.number().int(),
  /** What it would do, as the forecast of its revision says. */
  sentence: Sentence,
  written: z.array(Amount),
  itemCount: z.number().int(),
  reviewers: z.array(Reviewer),
  openThreads: z.number().int(),
  /** When it is to be delivered; null for as soon as somebody does. */
  deliverAt: Time.nullable(),
  transfer: Id.nullable(),
  /** Why it was returned, is blocked or was withdrawn. */
  because: z.string().nullable(),
  /** Delivered past approval and claims, and why. */
  urgent: z.string().nullable(),
  /** The transfer that it takes back; null for one that brings something. */
  undoes: Id.nullable(),
  /** Whether the caller is asked for a verdict, or the caller's own request was returned or blocked. */
  waitsForMe: z.boolean(),
});
export type ChangeRequest = z.infer<typeof ChangeRequest>;

/** An item of a change request, and how its review stands. */
export const RequestItem = z.object({
  id: z.string(),
  kind: z.string(),
  title: z.string(),
  change: z.enum(['new', 'changed', 'deleted']),
  outcome: z.enum(['written', 'needs-you', 'kept']),
  hash: z.string(),
  takenAlongFor: z.string().nullable(),
  /** Revision in which it became what it is. */
  since: z.number().int(),
  approvedBy: z.array(z.string()),
  lapsedFor: z.array(z.string()),
  missing: z.number().int(),
  missingTeams: z.array(z.string()),
  missingGuests: z.number().int(),
  /** Whether the caller has marked it as seen, as it is now. */
  isSeen: z.boolean(),
  openThreads: z.number().int(),
});
export type RequestItem = z.infer<typeof RequestItem>;

/** Something said of a change request; `former` is what it said before it was edited. */
export const Comment = z.object({
  id: Id,
  author: Person.nullable(),
  /** By somebody with a link, who has no account. */
  isGuest: z.boolean(),
  /** Markdown; empty once it was removed. */
  text: z.string(),
  at: Time,
  editedAt: Time.nullable(),
  removedAt: Time.nullable(),
  former: z.array(z.object({ at: Time, text: z.string() })),
  etag: Etag,
});
export type Comment = z.infer<typeof Comment>;

/** A conversation about the request, one of its items, or a field of that. */
export const Thread = z.object({
  id: Id,
  item: z.string().nullable(),
  field: z.string().nullable(),
  revision: z.number().int(),
  resolvedAt: Time.nullable(),
  resolvedBy: z.string().nullable(),
  comments: z.array(Comment),
});
export type Thread = z.infer<typeof Thread>;

/** What somebody says of a whole revision. */
export const Verdict = z.object({
  person: Person,
  isGuest: z.boolean(),
  says: z.enum(['approve', 'return']),
  words: z.string(),
  revision: z.number().int(),
  at: Time,
});

/** Something one may do to a request, or why not. */
export const RequestAct = z.object({
  act: z.enum(['ask', 'review', 'revise', 'deliver', 'schedule', 'unschedule', 'withdraw', 'undo', 'preview', 'edit']),
  allowed: z.boolean(),
  because: z.string(),
});

export type RequestAct = z.infer<typeof RequestAct>;

/** What the destination would be with exactly the request's items, to be looked at. */
export const Preview = z.object({
  environment: z.string(),
  url: z.string(),
  state: z.enum(['making', 'ready', 'failed']),
  /** Revision that it shows. */
  revision: z.number().int(),
  /** When the destination was as it is there. */
  at: Time.nullable(),
  /** The transfer that makes it, or made it. */
  transfer: Id,
  /** Why it came to nothing. */
  because: z.string().nullable(),
});
export type Preview = z.infer<typeof Preview>;

/** Whether one may deliver at a moment, until when, or why not and when next. */
export const DeliveryMoment = z.object({
  allowed: z.boolean(),
  because: z.enum(['window', 'freeze']).nullable(),
  until: Time.nullable(),
  next: Time.nullable(),
});
export type DeliveryMoment = z.infer<typeof DeliveryMoment>;

/** A change request in full, as the caller sees it. */
export const RequestDetail = ChangeRequest.extend({
  description: z.string(),
  /** When its author would have it delivered; null where that does not matter. */
  wantedFor: WantedTime.nullable(),
  /** What windows and freezes say of that; null where nothing is wanted, or nothing restricts it. */
  wantedMoment: DeliveryMoment.nullable(),
  /** Of title, description, reviewers, manual steps and wanted time. */
  etag: Etag,
  forecast: Id,
  /** A newer forecast that is being computed for its next revision. */
  revising: Id.nullable(),
  rule: LaneRule,
  isApproved: z.boolean(),
  preview: Preview.nullable(),
  items: z.array(RequestItem),
  steps: z.array(ManualStep),
  verdicts: z.array(Verdict),
  threads: z.array(Thread),
  revisions: z.array(
    z.object({
      number: z.number().int(),
      at: Time,
      person: z.string(),
      added: z.number().int(),
      changed: z.number().int(),
      gone: z.number().int(),
    }),
  ),
  /** Items of it that another open request holds. */
  waitsFor: z.array(z.object({ item: z.string(), request: Id, title: z.string(), author: z.string() })),
  /** Items of it that others wait for. */
  wantedBy: z.array(
    z.object({ item: z.string(), request: Id, title: z.string(), author: z.string(), isAsked: z.boolean() }),
  ),
  history: z.array(z.object({ at: Time, person: z.string(), act: z.string(), words: z.string() })),
  acts: z.array(RequestAct),
});
export type RequestDetail = z.infer<typeof RequestDetail>;

/** A time of day, `HH:MM`. */
export const TimeOfDay = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'write a time of day such as 03:30');

/** When delivering onto live is allowed, week by week, in the site's time zone; 1 is Monday. */
export const DeliveryWindow = z.strictObject({
  days: z.array(z.number().int().min(1).max(7)).min(1).max(7),
  from: TimeOfDay,
  until: TimeOfDay,
});
export type DeliveryWindow = z.infer<typeof DeliveryWindow>;

const LocalTime = z
  .string()
  .regex(/^\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])T([01]\d|2[0-3]):[0-5]\d$/, 'write 2026-12-20T18:00');
const DayOfYear = z.string().regex(/^(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])$/, 'write 12-20');

/** When a freeze holds: once from one local time to another, or each year from one day to another. */
export const FreezeTime = z.discriminatedUnion('repeats', [
  z.strictObject({ repeats: z.literal('never'), from: LocalTime, until: LocalTime }),
  z.strictObject({ repeats: z.literal('yearly'), from: DayOfYear, until: DayOfYear }),
]);

/** For which sites something holds: `everything`, `client:NAME`, `tag:NAME` or a site. */
export const FreezeScope = z
  .string()
  .max(140)
  .regex(
    /^(?:everything|client:.{1,120}|(?:tag:)?[a-z][a-z0-9-]*)$/,
    'write everything, client:NAME, tag:NAME or a site',
  );

/** A span of time in which nothing is delivered onto live. */
export const Freeze = z.object({
  id: Id,
  reason: z.string(),
  scope: FreezeScope,
  time: FreezeTime,
  person: z.string(),
  createdAt: Time,
});
export type Freeze = z.infer<typeof Freeze>;

/** When few visitors come to a site, proposed as a window. */
export const QuietHours = z.object({
  site: z.string(),
  /** Since when its visitors are counted; null where none have come through the gateway. */
  since: Time.nullable(),
  /** Null before a whole week was counted, or where no hours are quieter than others. */
  proposal: z
    .object({
      window: DeliveryWindow,
      /** Requests in an hour of it, and in any hour; means. */
      quiet: z.number(),
      usual: z.number(),
    })
    .nullable(),
});
export type QuietHours = z.infer<typeof QuietHours>;

/** When deliveries onto a site's live are allowed, and what is to be delivered. */
export const DeliveryPlan = z.object({
  site: z.string(),
  timeZone: z.string(),
  windows: z.array(DeliveryWindow),
  /** Of the windows. */
  etag: Etag,
  freezes: z.array(Freeze),
  /** Of the moment that was asked for, or now. */
  moment: DeliveryMoment,
  /** The openings of the next weeks, freezes taken out. */
  openings: z.array(z.object({ from: Time, until: Time })),
  frozen: z.array(z.object({ from: Time, until: Time })),
  deliveries: z.array(z.object({ request: Id, title: z.string(), at: Time })),
});
export type DeliveryPlan = z.infer<typeof DeliveryPlan>;

/** Something that is due, or holds, in a span of time. */
export const AgendaItem = z.object({
  is: z.enum(['delivery', 'window', 'freeze']),
  from: Time,
  /** Null for what happens at once. */
  until: Time.nullable(),
  /** Title of the request that is delivered, or why it is frozen. */
  reason: z.string().nullable(),
  request: Id.nullable(),
  sites: z.array(z.string()),
});
export type AgendaItem = z.infer<typeof AgendaItem>;

/** Who is asked for review: a person or a team, one of the two. */
export const ReviewerWish = z.strictObject({ person: Id.optional(), team: Name.optional() });
