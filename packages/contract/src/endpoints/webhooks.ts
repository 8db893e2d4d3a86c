import { ANNOUNCED } from '@tessarion/core';
import { z } from 'zod';
import { endpoint } from '../endpoint.js';
import * as s from '../shapes.js';
import { byId, none, nothing, Page, paged } from './inputs.js';

const Type = z.enum(ANNOUNCED);

/** An address that is told of what happens, and of what. */
export const Webhook = z.object({
  id: s.Id,
  url: z.string(),
  types: z.array(Type),
  scope: s.ScopeText,
  allowsPrivate: z.boolean(),
  createdAt: s.Time,
});
export type Webhook = z.infer<typeof Webhook>;

/** Something that was sent to a webhook, or will be. */
export const WebhookDelivery = z.object({
  id: s.Id,
  webhook: s.Id,
  type: Type,
  subject: z.string(),
  at: s.Time,
  state: z.enum(['waiting', 'delivered', 'given-up']),
  tries: z.number().int(),
  /** Status of the last answer; null where there was none. */
  status: z.number().int().nullable(),
  problem: z.string().nullable(),
  nextAt: s.Time.nullable(),
});
export type WebhookDelivery = z.infer<typeof WebhookDelivery>;

/** Webhooks, what was sent to them, and sending it again. */
export const webhooksEndpoints = {
  webhookList: endpoint({
    method: 'GET',
    path: '/webhooks',
    permission: 'webhook.manage',
    about: 'installation',
    summary: 'List the webhooks.',
    params: nothing,
    query: nothing,
    body: none,
    response: z.array(Webhook),
  }),
  webhookAdd: endpoint({
    method: 'POST',
    path: '/webhooks',
    permission: 'webhook.manage',
    about: 'installation',
    summary: 'Have another program told of what happens; the secret that signs it is shown once.',
    params: nothing,
    query: nothing,
    body: z.strictObject({
      url: z.url({ protocol: /^https?$/, error: 'write an address such as https://ci.example/hook' }).max(500),
      types: z.array(Type).min(1).optional(),
      scope: s.ScopeText.optional(),
      /** Lets it lead to this machine, or into a private network. */
      allowsPrivate: z.boolean().optional(),
    }),
    response: Webhook.extend({ secret: z.string() }),
    status: 201,
  }),
  webhookRemove: endpoint({
    method: 'DELETE',
    path: '/webhooks/:id',
    permission: 'webhook.manage',
    about: 'installation',
    summary: 'Remove a webhook; what waits is not sent any more.',
    params: byId,
    query: nothing,
    body: none,
    response: none,
    status: 204,
  }),
  webhookDeliveries: endpoint({
    method: 'GET',
    path: '/webhooks/:id/deliveries',
    permission: 'webhook.manage',
    about: 'installation',
    summary: 'List what was sent to a webhook, newest first.',
    params: byId,
    query: Page,
    body: none,
    response: paged(WebhookDelivery),
  }),
  webhookResend: endpoint({
    method: 'POST',
    path: '/webhook-deliveries/:id/resend',
    permission: 'webhook.manage',
    about: 'installation',
    costs: 25,
    summary: 'Send something once more, under the same id.',
    params: byId,
    query: nothing,
    body: none,
    response: WebhookDelivery,
    status: 202,
  }),
} as const;
