import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { byId, none, nothing } from './inputs.js';

/** A day as `2026-11-30`: of a week its Monday, in UTC. */
const Day = z.iso.date();

/** How sites went over time: from the first week of which anything is known, at most twelve, each with what it had. */
export const Figures = z.object({
  /** Items that waited to go up, and that live changed itself, as they were found last in each week. */
  drift: z.array(z.object({ week: Day, up: z.number().int(), down: z.number().int() })),
  /** Bytes of files and databases, as they were measured last in each week. */
  disk: z.array(z.object({ week: Day, bytes: z.number() })),
  /** Requests that live answers in each hour of the day (UTC), on the average of the last four weeks. */
  visits: z.array(z.object({ hour: z.number().int().min(0).max(23), requests: z.number() })),
  /** How the transfers of each week ended. */
  transfers: z.array(
    z.object({ week: Day, done: z.number().int(), failed: z.number().int(), undone: z.number().int() }),
  ),
});
export type Figures = z.infer<typeof Figures>;

/** A list as somebody looks at it, kept under a name. */
export const SavedView = z.object({
  id: s.Id,
  room: z.enum(['fleet', 'requests', 'transfers', 'journal']),
  name: z.string().trim().min(1).max(60),
  /** What the room's address says of it, such as `state=failed&by=client`. */
  query: z.string().max(500),
});
export type SavedView = z.infer<typeof SavedView>;

/** Figures over weeks, and saved views. */
export const figuresEndpoints = {
  figuresShow: endpoint({
    method: 'GET',
    path: '/figures',
    permission: 'site.read',
    about: 'listed',
    costs: 5,
    summary: 'Show how sites went over the last twelve weeks: drift, disk, visits, transfers.',
    params: nothing,
    query: z.strictObject({ site: s.Name.optional() }),
    body: none,
    response: Figures,
  }),
  viewList: endpoint({
    method: 'GET',
    path: '/views',
    permission: 'signed-in',
    about: 'own',
    summary: 'List the views that one keeps, by room and name.',
    params: nothing,
    query: nothing,
    body: none,
    response: z.array(SavedView),
  }),
  viewSave: endpoint({
    method: 'POST',
    path: '/views',
    permission: 'signed-in',
    about: 'own',
    isAct: false,
    summary: 'Keep a view of a list under a name; one of that name in that room is replaced.',
    params: nothing,
    query: nothing,
    body: SavedView.omit({ id: true }).strict(),
    response: SavedView,
    status: 201,
  }),
  viewRemove: endpoint({
    method: 'DELETE',
    path: '/views/:id',
    permission: 'signed-in',
    about: 'own',
    isAct: false,
    summary: 'Forget a view.',
    params: byId,
    query: nothing,
    body: none,
    response: none,
    status: 204,
  }),
} as const;
