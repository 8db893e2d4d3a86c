import { z } from 'zod';
import { edit, endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { none, nothing, onEnvironment, onSite } from './inputs.js';

/** Making, showing, editing, entering, renaming and removing environments, and what came to them. */
export const environmentsEndpoints = {
  environmentShow: endpoint({
    method: 'GET',
    path: '/environments/:site/:environment',
    permission: 'site.read',
    about: { environments: ['params.site/params.environment'] },
    summary: 'Show an environment.',
    params: onEnvironment,
    query: nothing,
    body: none,
    response: s.Environment,
  }),
  environmentProposal: endpoint({
    method: 'GET',
    path: '/sites/:site/proposal',
    permission: 'site.read',
    about: { site: 'params.site', from: 'query.from' },
    summary: 'Propose a free name and address for a new environment, and check a copy.',
    params: onSite,
    query: z.strictObject({
      kind: s.EnvironmentKind,
      name: z.string().max(400).optional(),
      from: s.EnvironmentPath.optional(),
    }),
    body: none,
    response: z.object({ name: z.string(), address: z.string(), server: z.string(), checks: z.array(s.Check) }),
  }),
  environmentCreate: endpoint({
    method: 'POST',
    path: '/sites/:site/environments',
    permission: 'copy.manage',
    about: { site: 'params.site', from: 'body.from', snapshot: 'body.snapshot' },
    costs: 10,
    summary: 'Make a new environment as a copy of another, or of a snapshot.',
    params: onSite,
    query: nothing,
    body: z.strictObject({
      name: s.Name,
      kind: z.enum(['dev', 'staging']),
      from: s.EnvironmentPath.optional(),
      snapshot: s.Id.optional(),
      /** The site's own server where it is left out. */
      server: s.Name.optional(),
      leaveOut: z
        .strictObject({
          tables: z.array(z.string()).optional(),
          areas: z.array(z.string()).optional(),
          paths: z.array(z.string()).optional(),
        })
        .optional(),
      acceptTraces: z.array(z.string()).optional(),
      acceptPersonal: z.string().max(500).optional(),
      /** The source's path, typed again where it is of another client. */
      confirm: s.EnvironmentPath.optional(),
    }),
    response: s.Transfer,
    status: 202,
  }),
  environmentEdit: edit({
    method: 'PATCH',
    path: '/environments/:site/:environment',
    permission: 'copy.manage',
    onLive: 'site.manage',
    about: { environments: ['params.site/params.environment'] },
    summary: 'Describe an environment, or let it bring news in on a schedule.',
    params: onEnvironment,
    query: nothing,
    body: z.strictObject({
      description: z.string().max(500).nullable().optional(),
      schedule: s.PullSchedule.omit({ last: true }).strict().nullable().optional(),
    }),
    response: s.Environment,
  }),
  environmentRename: endpoint({
    method: 'POST',
    path: '/environments/:site/:environment/renames',
    permission: 'copy.manage',
    onLive: 'site.manage',
    about: { environments: ['params.site/params.environment'] },
    costs: 10,
    summary: 'Give a copy another name; its address follows, and it is closed meanwhile.',
    params: onEnvironment,
    query: nothing,
    body: z.strictObject({ name: s.Name }),
    response: s.Transfer,
    status: 202,
  }),
  environmentRemove: endpoint({
    method: 'DELETE',
    path: '/environments/:site/:environment',
    permission: 'copy.manage',
    onLive: 'site.manage',
    about: { environments: ['params.site/params.environment'] },
    costs: 10,
    summary: 'Remove a copy with its files and databases.',
    params: onEnvironment,
    query: z.strictObject({ confirm: z.string() }),
    body: none,
    response: s.Transfer,
    status: 202,
  }),
  itemHistory: endpoint({
    method: 'GET',
    path: '/environments/:site/:environment/item-history',
    permission: 'site.read',
    about: { environments: ['params.site/params.environment'] },
    summary:
      'Say when a thing, or all things, came to an environment: in which transfers, by which request, approved by whom.',
    params: onEnvironment,
    query: z.strictObject({
      /** The id of an item, such as `product:3`, or a title that it has or had. */
      item: z.string().trim().min(1, 'name an item').max(2000).optional(),
      /** A part of the title that a thing has or had. */
      find: z.string().trim().min(1).max(100).optional(),
      limit: z.coerce.number().int().min(1).max(200).optional(),
    }),
    body: none,
    response: z.array(s.ItemVisit),
  }),
  environmentLogins: endpoint({
    method: 'GET',
    path: '/environments/:site/:environment/logins',
    permission: 'secret.read',
    about: { environments: ['params.site/params.environment'] },
    summary: "Show the login of a copy's gate.",
    params: onEnvironment,
    query: nothing,
    body: none,
    response: s.Login,
  }),
  environmentEnter: endpoint({
    method: 'POST',
    path: '/environments/:site/:environment/enter',
    permission: 'site.read',
    about: { environments: ['params.site/params.environment'] },
    summary: 'Make a one-time link past the gate of a copy.',
    params: onEnvironment,
    query: nothing,
    body: none,
    response: z.object({ url: z.string() }),
  }),
} as const;
