import { z } from 'zod';
import { edit, endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { none, nothing, onSite } from './inputs.js';

/** How a database of a site is reached, and what the profile calls it. */
export const DatabaseAccess = z.strictObject({
  name: s.Name,
  /** PostgreSQL where it is left out. */
  system: s.DatabaseSystem.optional(),
  host: z.string(),
  port: z.number().int(),
  database: z.string(),
  user: z.string(),
  password: z.string(),
});

const Adoption = z.strictObject({
  name: s.Name,
  client: z.string().min(1).max(120),
  timeZone: z.string().max(60).optional(),
  profile: s.Name.optional(),
  server: s.Name,
  folder: z.string().startsWith('/').max(500),
  roots: z.array(s.RootName).min(1).optional(),
  addresses: z
    .array(
      z.object({
        name: s.Name,
        url: s.BaseUrl,
        aliases: z.array(z.object({ name: s.Name, url: s.BaseUrl })).optional(),
      }),
    )
    .min(1),
  databases: z.array(DatabaseAccess),
  /** Nothing of its folder is moved: its files are written one by one where they lie. */
  asItLies: z.boolean().optional(),
});

/** Servers and sites: bringing in, showing, tagging, giving back. */
export const fleetEndpoints = {
  serverList: endpoint({
    method: 'GET',
    path: '/servers',
    permission: 'site.read',
    about: 'installation',
    summary: 'List the servers.',
    params: nothing,
    query: nothing,
    body: none,
    response: z.array(s.Server),
  }),
  serverCreate: endpoint({
    method: 'POST',
    path: '/servers',
    permission: 'server.manage',
    about: 'installation',
    costs: 10,
    summary: 'Add a server.',
    params: nothing,
    query: nothing,
    body: z.strictObject({
      name: s.Name,
      folder: z.string().startsWith('/'),
      baseDomain: z.string().regex(/^[a-z0-9.-]+$/),
      webHost: z.object({ host: z.string(), port: z.number().int() }),
      database: z.object({
        system: s.DatabaseSystem.optional(),
        host: z.string(),
        port: z.number().int(),
        user: z.string(),
        password: z.string(),
      }),
      ssh: s.SshMachine.extend({
        jump: s.SshMachine.optional(),
        /** A private key of one's own, as OpenSSH keeps it, without a passphrase; one is made where it is left out. */
        key: z.string().max(20_000).optional(),
      }).optional(),
    }),
    response: s.Server,
    status: 201,
  }),
  serverTry: endpoint({
    method: 'POST',
    path: '/servers/:name/try',
    permission: 'server.manage',
    about: 'installation',
    costs: 10,
    summary:
      'Try a server step by step, up to the first one that fails; host keys are confirmed by their fingerprints.',
    params: z.object({ name: s.Name }),
    query: nothing,
    body: z.strictObject({ hostKeys: z.array(z.string()).max(4).optional() }),
    response: z.object({
      steps: z.array(s.Check),
      /** The fingerprint of a host key that was shown, and that somebody has to confirm. */
      hostKey: z.string().nullable(),
      server: s.Server,
    }),
  }),
  serverClear: endpoint({
    method: 'DELETE',
    path: '/servers/:name/left-behind',
    permission: 'server.manage',
    about: 'installation',
    costs: 10,
    summary: 'Remove databases and folders that this installation made and that belong to nothing that it knows.',
    params: z.object({ name: s.Name }),
    query: z.strictObject({ confirm: z.string() }),
    body: none,
    response: s.LeftBehind,
  }),
  fleetShow: endpoint({
    method: 'GET',
    path: '/fleet',
    permission: 'site.read',
    about: 'listed',
    isKept: true,
    summary: 'Show the fleet at a glance: each site with the states of its environments and what is on its way.',
    params: nothing,
    query: z.strictObject({ site: s.Name.optional() }),
    body: none,
    response: z.array(s.FleetSite),
  }),
  siteList: endpoint({
    method: 'GET',
    path: '/sites',
    permission: 'site.read',
    about: 'listed',
    summary: 'List the sites with their environments.',
    params: nothing,
    query: z.strictObject({
      client: z.string().optional(),
      tag: s.Name.optional(),
      kind: s.EnvironmentKind.optional(),
      state: s.EnvironmentState.optional(),
    }),
    body: none,
    response: z.array(s.Site),
  }),
  siteShow: endpoint({
    method: 'GET',
    path: '/sites/:site',
    permission: 'site.read',
    about: { site: 'params.site' },
    summary: 'Show a site.',
    params: onSite,
    query: nothing,
    body: none,
    response: s.Site,
  }),
  siteTag: edit({
    method: 'PUT',
    path: '/sites/:site/tags',
    permission: 'site.manage',
    about: { site: 'params.site' },
    summary: 'Say by which words a site is put together with others.',
    params: onSite,
    query: nothing,
    body: z.strictObject({ tags: z.array(s.Name).max(20) }),
    response: s.Site,
  }),
  siteTry: endpoint({
    method: 'POST',
    path: '/sites/trial',
    permission: 'site.manage',
    about: 'installation',
    costs: 10,
    summary: 'Say what bringing a site in would find and move, without doing it.',
    params: nothing,
    query: nothing,
    body: Adoption,
    response: z.object({
      checks: z.array(s.Check),
      /** Below the site's folder, in the order in which they would be done. */
      moves: z.array(
        z.object({ act: z.enum(['rename', 'folder', 'link']), path: z.string(), to: z.string().nullable() }),
      ),
    }),
  }),
  siteLeave: endpoint({
    method: 'DELETE',
    path: '/sites/:site',
    permission: 'site.manage',
    about: { site: 'params.site' },
    costs: 10,
    summary: 'Give a site back as it was found, and forget it with its snapshots and change requests.',
    params: onSite,
    query: z.strictObject({ confirm: z.string() }),
    body: none,
    response: s.Transfer,
    status: 202,
  }),
  siteAdopt: endpoint({
    method: 'POST',
    path: '/sites',
    permission: 'site.manage',
    about: 'installation',
    costs: 10,
    summary: 'Bring in a running site with its live environment.',
    params: nothing,
    query: nothing,
    body: Adoption,
    response: s.Transfer,
    status: 202,
  }),
} as const;
