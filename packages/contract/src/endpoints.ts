import { z } from 'zod';
import { endpoint } from './endpoint.js';
import * as s from './shapes.js';

const none = z.undefined();
const nothing = z.object({});
const onSite = z.object({ site: s.Name });
const onEnvironment = z.object({ site: s.Name, environment: s.Name });
const byId = z.object({ id: s.Id });
const Mail = z.email('write a mail address').max(200);
const Password = z.string().min(12, 'use at least 12 characters').max(200);

export const Page = z.object({ cursor: z.string().max(200).optional(), limit: z.coerce.number().int().min(1).max(500).optional() });
const paged = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item), next: z.string().nullable() });

export const DatabaseAccess = z.object({ name: s.Name, host: z.string(), port: z.number().int(), database: z.string(), user: z.string(), password: z.string() });

/** Every endpoint of the interface. */
export const endpoints = {
  signIn: endpoint({ method: 'POST', path: '/sign-in', permission: 'open', summary: 'Sign in with mail and password; sets the session cookie.', params: nothing, query: nothing, body: z.object({ mail: z.string().max(200), password: z.string().max(200) }), response: s.Person }),
  signOut: endpoint({ method: 'POST', path: '/sign-out', permission: 'signed-in', summary: 'End the session.', params: nothing, query: nothing, body: none, response: none, status: 204 }),
  me: endpoint({ method: 'GET', path: '/me', permission: 'signed-in', summary: 'Who is signed in.', params: nothing, query: nothing, body: none, response: s.Person }),
  firstAdministrator: endpoint({ method: 'POST', path: '/first-administrator', permission: 'open', summary: 'Make the first administrator, with the one-time key that the service printed.', params: nothing, query: nothing, body: z.object({ key: z.string(), name: z.string().min(1).max(120), mail: Mail, password: Password }), response: s.Person, status: 201 }),
  tokenList: endpoint({ method: 'GET', path: '/tokens', permission: 'signed-in', summary: "List one's own tokens.", params: nothing, query: nothing, body: none, response: z.array(s.Token) }),
  tokenCreate: endpoint({ method: 'POST', path: '/tokens', permission: 'signed-in', summary: 'Make a token; its value is shown once.', params: nothing, query: nothing, body: z.object({ name: z.string().min(1).max(120), days: z.number().int().min(1).max(3650).optional() }), response: s.Token.extend({ value: z.string() }), status: 201 }),
  tokenRemove: endpoint({ method: 'DELETE', path: '/tokens/:id', permission: 'signed-in', summary: 'End a token.', params: byId, query: nothing, body: none, response: none, status: 204 }),

  serverList: endpoint({ method: 'GET', path: '/servers', permission: 'fleet.read', summary: 'List the servers.', params: nothing, query: nothing, body: none, response: z.array(s.Server) }),
  serverCreate: endpoint({ method: 'POST', path: '/servers', permission: 'server.manage', summary: 'Add a server.', params: nothing, query: nothing, body: z.object({ name: s.Name, folder: z.string().startsWith('/'), baseDomain: z.string().regex(/^[a-z0-9.-]+$/), webHost: z.object({ host: z.string(), port: z.number().int() }), database: z.object({ host: z.string(), port: z.number().int(), user: z.string(), password: z.string() }) }), response: s.Server, status: 201 }),

  profileList: endpoint({ method: 'GET', path: '/profiles', permission: 'fleet.read', summary: 'List the profiles in their newest versions.', params: nothing, query: nothing, body: none, response: z.array(s.ProfileVersion) }),
  profileShow: endpoint({ method: 'GET', path: '/profiles/:name', permission: 'fleet.read', summary: 'Show a profile.', params: z.object({ name: s.Name }), query: z.object({ version: z.coerce.number().int().optional() }), body: none, response: s.ProfileVersion.extend({ text: z.string() }) }),
  profileSave: endpoint({ method: 'PUT', path: '/profiles/:name', permission: 'site.manage', summary: 'Save a new version of a profile.', params: z.object({ name: s.Name }), query: nothing, body: z.object({ text: z.string().max(500_000) }), response: s.ProfileVersion }),

  siteList: endpoint({ method: 'GET', path: '/sites', permission: 'fleet.read', summary: 'List the sites with their environments.', params: nothing, query: z.object({ client: z.string().optional(), kind: s.EnvironmentKind.optional(), state: s.EnvironmentState.optional() }), body: none, response: z.array(s.Site) }),
  siteShow: endpoint({ method: 'GET', path: '/sites/:site', permission: 'fleet.read', summary: 'Show a site.', params: onSite, query: nothing, body: none, response: s.Site }),
  siteAdopt: endpoint({
    method: 'POST', path: '/sites', permission: 'site.manage', summary: 'Bring in a running site with its live environment.', params: nothing, query: nothing,
    body: z.object({ name: s.Name, client: z.string().min(1).max(120), timeZone: z.string().max(60).optional(), profile: s.Name.optional(), server: s.Name, folder: z.string().startsWith('/').max(500), roots: z.array(s.Name).min(1).optional(), addresses: z.array(z.object({ name: s.Name, url: s.BaseUrl, aliases: z.array(z.object({ name: s.Name, url: s.BaseUrl })).optional() })).min(1), databases: z.array(DatabaseAccess) }),
    response: s.Transfer, status: 202,
  }),

  environmentShow: endpoint({ method: 'GET', path: '/environments/:site/:environment', permission: 'fleet.read', summary: 'Show an environment.', params: onEnvironment, query: nothing, body: none, response: s.Environment }),
  environmentProposal: endpoint({ method: 'GET', path: '/sites/:site/proposal', permission: 'fleet.read', summary: 'Propose a free name and address for a new environment, and check a copy.', params: onSite, query: z.object({ kind: s.EnvironmentKind, name: z.string().max(400).optional(), from: s.EnvironmentPath.optional() }), body: none, response: z.object({ name: z.string(), address: z.string(), server: z.string(), checks: z.array(s.Check) }) }),
  environmentCreate: endpoint({
    method: 'POST', path: '/sites/:site/environments', permission: 'copy.manage', summary: 'Make a new environment as a copy of another, or of a snapshot.', params: onSite, query: nothing,
    body: z.object({ name: s.Name, kind: z.enum(['dev', 'staging']), from: s.EnvironmentPath.optional(), snapshot: s.Id.optional(), leaveOut: z.object({ tables: z.array(z.string()).optional(), areas: z.array(z.string()).optional(), paths: z.array(z.string()).optional() }).optional(), acceptTraces: z.array(z.string()).optional(), acceptPersonal: z.string().max(500).optional() }),
    response: s.Transfer, status: 202,
  }),
  environmentRemove: endpoint({ method: 'DELETE', path: '/environments/:site/:environment', permission: 'copy.manage', summary: 'Remove a copy with its files and databases.', params: onEnvironment, query: z.object({ confirm: z.string() }), body: none, response: s.Transfer, status: 202 }),
  environmentLogins: endpoint({ method: 'GET', path: '/environments/:site/:environment/logins', permission: 'secret.read', summary: "Show the login of a copy's gate.", params: onEnvironment, query: nothing, body: none, response: s.Login }),
  environmentEnter: endpoint({ method: 'POST', path: '/environments/:site/:environment/enter', permission: 'fleet.read', summary: 'Make a one-time link past the gate of a copy.', params: onEnvironment, query: nothing, body: none, response: z.object({ url: z.string() }) }),

  forecastCreate: endpoint({ method: 'POST', path: '/forecasts', permission: 'fleet.read', summary: 'Compute what a push would do.', params: nothing, query: nothing, body: z.object({ from: s.EnvironmentPath, onto: s.EnvironmentPath, snapshot: s.Id.optional() }), response: s.Forecast, status: 202 }),
  forecastShow: endpoint({ method: 'GET', path: '/forecasts/:id', permission: 'fleet.read', summary: 'Show a forecast.', params: byId, query: nothing, body: none, response: s.Forecast }),
  forecastItems: endpoint({ method: 'GET', path: '/forecasts/:id/items', permission: 'fleet.read', summary: 'List the items of a forecast.', params: byId, query: Page, body: none, response: paged(s.ForecastItem) }),

  pushCreate: endpoint({ method: 'POST', path: '/pushes', permission: 'copy.manage', summary: 'Push what a forecast shows. Onto live the destination must be named in full.', params: nothing, query: nothing, body: z.object({ forecast: s.Id, confirm: z.string().optional() }), response: s.Transfer, status: 202 }),
  resetCreate: endpoint({ method: 'POST', path: '/resets', permission: 'copy.manage', summary: "Make a copy its source's double again.", params: nothing, query: nothing, body: z.object({ from: s.EnvironmentPath, onto: s.EnvironmentPath, acceptTraces: z.array(z.string()).optional() }), response: s.Transfer, status: 202 }),
  restoreCreate: endpoint({ method: 'POST', path: '/restores', permission: 'copy.manage', summary: 'Restore a snapshot onto an environment.', params: nothing, query: nothing, body: z.object({ snapshot: s.Id, onto: s.EnvironmentPath, confirm: z.string().optional() }), response: s.Transfer, status: 202 }),
  transferList: endpoint({ method: 'GET', path: '/transfers', permission: 'fleet.read', summary: 'List transfers, newest first.', params: nothing, query: Page.extend({ site: s.Name.optional(), kind: s.TransferKind.optional(), state: s.TransferState.optional(), person: z.string().max(120).optional() }), body: none, response: paged(s.Transfer) }),
  transferShow: endpoint({ method: 'GET', path: '/transfers/:id', permission: 'fleet.read', summary: 'Show a transfer with its steps.', params: byId, query: nothing, body: none, response: s.TransferDetail }),
  transferStop: endpoint({ method: 'POST', path: '/transfers/:id/stop', permission: 'copy.manage', summary: 'Stop a transfer before its switch.', params: byId, query: nothing, body: none, response: s.Transfer, status: 202 }),
  transferUndo: endpoint({ method: 'POST', path: '/transfers/:id/undo', permission: 'copy.manage', summary: 'Take back what a push or restore wrote; later changes by others stay.', params: byId, query: nothing, body: z.object({ confirm: z.string().optional() }), response: s.Transfer, status: 202 }),
  transferAcknowledge: endpoint({ method: 'POST', path: '/transfers/:id/acknowledge', permission: 'copy.manage', summary: 'Note that a failure has been seen.', params: byId, query: nothing, body: none, response: s.Transfer }),

  snapshotList: endpoint({ method: 'GET', path: '/snapshots', permission: 'fleet.read', summary: 'List snapshots, newest first.', params: nothing, query: z.object({ site: s.Name.optional(), environment: s.EnvironmentPath.optional() }), body: none, response: z.array(s.Snapshot) }),
  snapshotTake: endpoint({ method: 'POST', path: '/snapshots', permission: 'snapshot.manage', summary: 'Take a snapshot of an environment.', params: nothing, query: nothing, body: z.object({ environment: s.EnvironmentPath, reason: z.string().max(200).optional() }), response: s.Transfer, status: 202 }),
  snapshotVerify: endpoint({ method: 'POST', path: '/snapshots/:id/verify', permission: 'snapshot.manage', summary: 'Read every part of a snapshot again and name what is damaged.', params: byId, query: nothing, body: none, response: s.Snapshot }),
  snapshotRemove: endpoint({ method: 'DELETE', path: '/snapshots/:id', permission: 'snapshot.manage', summary: 'Remove a snapshot; only what no other snapshot shares is freed.', params: byId, query: nothing, body: none, response: z.object({ blobs: z.number(), bytes: z.number() }) }),
} as const;

export type Endpoints = typeof endpoints;
export type EndpointName = keyof Endpoints;
export type ParamsOf<N extends EndpointName> = z.infer<Endpoints[N]['params']>;
export type QueryOf<N extends EndpointName> = z.infer<Endpoints[N]['query']>;
export type BodyOf<N extends EndpointName> = z.infer<Endpoints[N]['body']>;
export type ResponseOf<N extends EndpointName> = z.infer<Endpoints[N]['response']>;

/** What the event stream at `/api/v1/events` sends; `id` resumes it by `Last-Event-ID`. */
export const StreamEvent = z.discriminatedUnion('type', [
  z.object({ type: z.literal('transfer'), transfer: s.Id, site: z.string(), state: s.TransferState, progress: s.Progress.nullable() }),
  z.object({ type: z.literal('forecast'), forecast: s.Id, state: z.enum(['computing', 'ready', 'failed']) }),
  z.object({ type: z.literal('site'), site: z.string() }),
]);
export type StreamEvent = z.infer<typeof StreamEvent>;
