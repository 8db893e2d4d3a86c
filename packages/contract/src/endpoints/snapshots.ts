import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { byId, none, nothing } from './inputs.js';

/** Taking, listing, verifying and removing snapshots. */
export const snapshotsEndpoints = {
  snapshotList: endpoint({
    method: 'GET',
    path: '/snapshots',
    permission: 'site.read',
    about: 'listed',
    summary: 'List snapshots, newest first.',
    params: nothing,
    query: z.strictObject({ site: s.Name.optional(), environment: s.EnvironmentPath.optional() }),
    body: none,
    response: z.array(s.Snapshot),
  }),
  snapshotTake: endpoint({
    method: 'POST',
    path: '/snapshots',
    permission: 'snapshot.manage',
    about: { environments: ['body.environment'] },
    costs: 10,
    summary: 'Take a snapshot of an environment.',
    params: nothing,
    query: nothing,
    body: z.strictObject({ environment: s.EnvironmentPath, reason: z.string().max(200).optional() }),
    response: s.Transfer,
    status: 202,
  }),
  snapshotVerify: endpoint({
    method: 'POST',
    path: '/snapshots/:id/verify',
    permission: 'snapshot.manage',
    about: { snapshot: 'params.id' },
    costs: 10,
    summary: 'Read every part of a snapshot again and name what is damaged.',
    params: byId,
    query: nothing,
    body: none,
    response: s.Snapshot,
  }),
  snapshotRemove: endpoint({
    method: 'DELETE',
    path: '/snapshots/:id',
    permission: 'snapshot.manage',
    about: { snapshot: 'params.id' },
    summary: 'Remove a snapshot; only what no other snapshot shares is freed.',
    params: byId,
    query: nothing,
    body: none,
    response: z.object({ blobs: z.number(), bytes: z.number() }),
  }),
} as const;
