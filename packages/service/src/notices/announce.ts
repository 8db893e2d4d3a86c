import { type Announced, type CloudEvent, covers, readScope } from '@tessarion/core';
import { newId } from '../ground/data-folder.js';
import { json, type OnRecords } from '../ground/open.js';

/** Something that webhooks are told of. */
export interface Announcement {
  readonly type: Announced;
  readonly at: Date;
  readonly site: string;
  /** Environment that it happened to. */
  readonly onto: string;
  /** Id of the request or transfer. */
  readonly subject: string;
  readonly data: Readonly<Record<string, unknown>>;
}

interface WebhookRow {
  readonly id: string;
  readonly types: readonly string[];
  readonly scope: string;
}

/** Puts what happened into the line of every webhook that wants it, in the transaction in which it happens. */
export async function announce(trx: OnRecords, what: Announcement): Promise<void> {
  const hooks = (await trx('webhook').select('id', 'types', 'scope')) as WebhookRow[];
  if (hooks.length === 0) return;
  const site = await trx('site').where({ name: what.site }).first('client');
  const thing = {
    is: 'environment',
    client: site?.client ?? '',
    site: what.site,
    environment: what.onto,
    kind: 'live',
  } as const;
  const wanting = hooks.filter(({ types, scope }) => types.includes(what.type) && covers(readScope(scope), thing));
  if (wanting.length === 0) return;
  await trx('webhook_delivery').insert(
    wanting.map(({ id: webhook_id }) => {
      const id = newId('v');
      const event: CloudEvent = {
        specversion: '1.0',
        id,
        source: '/tessarion',
        type: what.type,
        subject: what.subject,
        time: what.at.toISOString(),
        datacontenttype: 'application/json',
        data: { site: what.site, environment: what.onto, ...what.data },
      };
      return {
        id,
        webhook_id,
        type: what.type,
        subject: what.subject,
        body: json(event),
        at: what.at,
        due_at: what.at,
      };
    }),
  );
}
