import { z } from 'zod';
import { accessEndpoints } from './endpoints/access.js';
import { environmentsEndpoints } from './endpoints/environments.js';
import { figuresEndpoints } from './endpoints/figures.js';
import { fleetEndpoints } from './endpoints/fleet.js';
import { forecastsEndpoints } from './endpoints/forecasts.js';
import { guestsEndpoints } from './endpoints/guests.js';
import { journalEndpoints } from './endpoints/journal.js';
import { noticesEndpoints } from './endpoints/notices.js';
import { peopleEndpoints } from './endpoints/people.js';
import { profilesEndpoints } from './endpoints/profiles.js';
import { requestsEndpoints } from './endpoints/requests.js';
import { snapshotsEndpoints } from './endpoints/snapshots.js';
import { transfersEndpoints } from './endpoints/transfers.js';
import { webhooksEndpoints } from './endpoints/webhooks.js';
import * as s from './shapes.js';

export { Figures, SavedView } from './endpoints/figures.js';
export { DatabaseAccess } from './endpoints/fleet.js';
export { ExportForm, Page } from './endpoints/inputs.js';
export { JournalFilter } from './endpoints/journal.js';
export { Notice } from './endpoints/notices.js';
export { TransferFilter } from './endpoints/transfers.js';
export { Webhook, WebhookDelivery } from './endpoints/webhooks.js';

/** Every endpoint of the interface. */
export const endpoints = {
  ...accessEndpoints,
  ...peopleEndpoints,
  ...fleetEndpoints,
  ...profilesEndpoints,
  ...environmentsEndpoints,
  ...forecastsEndpoints,
  ...transfersEndpoints,
  ...snapshotsEndpoints,
  ...requestsEndpoints,
  ...guestsEndpoints,
  ...journalEndpoints,
  ...noticesEndpoints,
  ...webhooksEndpoints,
  ...figuresEndpoints,
} as const;

/** All endpoints, by name. */
export type Endpoints = typeof endpoints;
/** The name of an endpoint, such as `pushCreate`: what the journal and the access matrix call it. */
export type EndpointName = keyof Endpoints;
/** Endpoints that write over something, and need the entity tag of what was edited. */
export type EditName = {
  [N in EndpointName]: Endpoints[N] extends { readonly isEdit: true } ? N : never;
}[EndpointName];
/** What stands in the path of a call. */
export type ParamsOf<N extends EndpointName> = z.infer<Endpoints[N]['params']>;
/** What is asked in the query of a call. */
export type QueryOf<N extends EndpointName> = z.infer<Endpoints[N]['query']>;
/** What a call is sent with. */
export type BodyOf<N extends EndpointName> = z.infer<Endpoints[N]['body']>;
/** What a call is answered with. */
export type ResponseOf<N extends EndpointName> = z.infer<Endpoints[N]['response']>;

/** What the event stream at `/api/v1/events` sends; `id` resumes it by `Last-Event-ID`. */
export const StreamEvent = z.discriminatedUnion('type', [
  z.object({
    type: z.literal('transfer'),
    transfer: s.Id,
    site: z.string(),
    onto: z.string(),
    state: s.TransferState,
    progress: s.Progress.nullable(),
  }),
  z.object({
    type: z.literal('forecast'),
    forecast: s.Id,
    site: z.string(),
    onto: z.string(),
    state: z.enum(['computing', 'ready', 'failed']),
  }),
  z.object({ type: z.literal('request'), request: s.Id, site: z.string(), onto: z.string() }),
  z.object({ type: z.literal('site'), site: z.string() }),
]);
export type StreamEvent = z.infer<typeof StreamEvent>;
