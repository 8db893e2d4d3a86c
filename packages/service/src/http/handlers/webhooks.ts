import { randomBytes } from 'node:crypto';
import { isIP } from 'node:net';
import type { Webhook, WebhookDelivery } from '@tessarion/contract';
import { ANNOUNCED, isPrivateAddress } from '@tessarion/core';
import { readCursor, writeCursor } from '../../ground/cursor.js';
import { newId } from '../../ground/data-folder.js';
import { iso } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { type DeliveryRow, insertWebhook, removeWebhook, sendAgain, type WebhookRow } from '../../notices/webhooks.js';
import type { Handlers } from './call.js';

const toWebhook = (row: WebhookRow): Webhook => ({
  id: row.id,
  url: row.url,
  types: row.types,
  scope: row.scope,
  allowsPrivate: row.allows_private,
  createdAt: row.created_at.toISOString(),
});

const toDelivery = (row: DeliveryRow): WebhookDelivery => ({
  id: row.id,
  webhook: row.webhook_id,
  type: row.type,
  subject: row.subject,
  at: row.at.toISOString(),
  state: row.due_at ? 'waiting' : row.delivered_at ? 'delivered' : 'given-up',
  tries: row.tries,
  status: row.status,
  problem: row.problem,
  nextAt: iso(row.due_at),
});

const absent = (id: string): ProblemError =>
  new ProblemError('not-found', `There is no webhook ${id}.`, 'List them: tessarion webhook list');

const hostOf = ({ hostname }: URL): string => hostname.replace(/^\[|\]$/g, '');

export const webhookHandlers: Handlers<
  'webhookList' | 'webhookAdd' | 'webhookRemove' | 'webhookDeliveries' | 'webhookResend'
> = {
  async webhookList({ installation: { records } }) {
    return ((await records('webhook').orderBy('created_at')) as WebhookRow[]).map(toWebhook);
  },
  async webhookAdd(call) {
    const { installation, body } = call;
    const target = new URL(body.url);
    if (target.username !== '' || target.password !== '')
      throw new ProblemError('invalid', 'An address with a password in it is shown to others.', 'Leave it out.');
    const inside = isIP(hostOf(target)) && isPrivateAddress(hostOf(target));
    if (inside && body.allowsPrivate !== true)
      throw new ProblemError(
        'invalid',
        `${hostOf(target)} is a private address, which no webhook may reach unasked.`,
        'Allow it for this one: --allow-private',
      );
    const secret = `whsec_${randomBytes(32).toString('base64')}`;
    const row = {
      id: newId('w'),
      url: body.url,
      types: body.types ?? [...ANNOUNCED],
      scope: body.scope ?? 'everything',
      allows_private: body.allowsPrivate === true,
      created_at: installation.now(),
    };
    await installation.records.transaction(async (trx) => {
      await insertWebhook(trx, row, installation.folder.keys.encrypt(secret));
      await call.note(trx, row.id, { url: row.url, types: row.types, scope: row.scope });
    });
    return { ...toWebhook(row), secret };
  },
  async webhookRemove(call) {
    const { installation, params } = call;
    await installation.records.transaction(async (trx) => {
      const found = await trx('webhook').where({ id: params.id }).first('url');
      if (!found) throw absent(params.id);
      await removeWebhook(trx, params.id);
      await call.note(trx, params.id, { url: found.url });
    });
    return undefined;
  },
  async webhookDeliveries({ installation: { records }, params, query }) {
    if (!(await records('webhook').where({ id: params.id }).first('id'))) throw absent(params.id);
    const limit = query.limit ?? 50;
    const before = readCursor(query.cursor);
    const rows = records('webhook_delivery')
      .where({ webhook_id: params.id })
      .orderBy('at', 'desc')
      .orderBy('id', 'desc')
      .limit(limit + 1);
    if (before) rows.whereRaw('(at, id) < (?::timestamptz, ?)', [before.at, before.id]);
    const found = (await rows) as DeliveryRow[];
    const page = found.slice(0, limit);
    const last = page.at(-1);
    return {
      items: page.map(toDelivery),
      next: found.length > limit && last ? writeCursor({ at: last.at.toISOString(), id: last.id }) : null,
    };
  },
  async webhookResend(call) {
    const { installation, params } = call;
    return installation.records.transaction(async (trx) => {
      const row = await sendAgain(trx, params.id, installation.now());
      if (!row)
        throw new ProblemError(
          'not-found',
          `Nothing was sent as ${params.id}.`,
          'See: tessarion webhook deliveries ID',
        );
      await call.note(trx, row.webhook_id, { delivery: row.id });
      return toDelivery(row);
    });
  },
};
