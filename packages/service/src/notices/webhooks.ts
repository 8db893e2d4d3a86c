import { createHmac } from 'node:crypto';
import { lookup } from 'node:dns/promises';
import { request as http, type IncomingMessage } from 'node:http';
import { request as https } from 'node:https';
import { isIP, type LookupFunction } from 'node:net';
import type { Webhook, WebhookDelivery } from '@tessarion/contract';
import { isPrivateAddress, signedContent, WEBHOOK_BACK_OFF } from '@tessarion/core';
import type { Ground } from '../ground/ground.js';
import { json, type OnRecords } from '../ground/open.js';

const AT_ONCE = 20;
const ANSWER_MS = 10_000;
/** A worker that dies over one holds it for this long. */
const LEASE_MS = 60_000;

interface Due {
  readonly id: string;
  readonly body: string;
  readonly tries: number;
  readonly url: string;
  readonly secret: string;
  readonly allows_private: boolean;
}

/** Sends what is due; what is not taken is tried again, later and later, and given up in the end. */
export async function sendDueWebhooks(installation: Ground): Promise<void> {
  const { records, now } = installation;
  const { rows } = await records.raw<{ rows: Due[] }>(
    `WITH taken AS (
       UPDATE webhook_delivery SET due_at = ? WHERE id IN (
         SELECT id FROM webhook_delivery WHERE due_at <= ? ORDER BY due_at, id LIMIT ${AT_ONCE} FOR UPDATE SKIP LOCKED)
       RETURNING *)
     SELECT t.id, t.body, t.tries, w.url, w.secret, w.allows_private
     FROM taken t JOIN webhook w ON w.id = t.webhook_id ORDER BY t.at, t.id`,
    [new Date(now().getTime() + LEASE_MS), now()],
  );
  await Promise.all(rows.map((one) => send(installation, one)));
}

async function send({ records, folder, now, log }: Ground, one: Due): Promise<void> {
  const tries = one.tries + 1;
  const note = (changes: Record<string, unknown>) =>
    records('webhook_delivery')
      .where({ id: one.id })
      .update({ tries, ...changes });
  try {
    const status = await post(one, folder.keys.decrypt(one.secret), Math.floor(now().getTime() / 1000));
    if (status >= 200 && status < 300) {
      await note({ status, problem: null, delivered_at: now(), due_at: null });
      return;
    }
    await note({ status, problem: `It answered ${status}.`, due_at: nextTry(tries, now()) });
  } catch (error) {
    log.warn({ delivery: one.id, err: error }, 'a webhook could not be reached');
    const problem = error instanceof Error ? error.message.slice(0, 300) : String(error);
    await note({ status: null, problem, due_at: nextTry(tries, now()) });
  }
}

const nextTry = (tries: number, now: Date): Date | null => {
  const wait = WEBHOOK_BACK_OFF[tries - 1];
  return wait === undefined ? null : new Date(now.getTime() + wait * 1000);
};

/** Posts a body to exactly the address that was looked at; redirects are not followed. @returns the answer's status */
async function post({ id, body, url, allows_private }: Due, secret: string, timestamp: number): Promise<number> {
  const target = new URL(url);
  const host = target.hostname.replace(/^\[|\]$/g, '');
  const found = isIP(host) ? [{ address: host, family: isIP(host) }] : await lookup(host, { all: true });
  const inside = found.find((one) => isPrivateAddress(one.address));
  if (inside && !allows_private)
    throw new Error(`${host} leads to ${inside.address}, a private address; this webhook may not reach such.`);
  const [chosen] = found;
  if (!chosen) throw new Error(`${host} leads nowhere.`);
  const key = Buffer.from(secret.replace(/^whsec_/, ''), 'base64');
  const signature = createHmac('sha256', key)
    .update(signedContent(id, timestamp, body))
    .digest('base64');
  // Looked up once: between the look and the connection nobody puts another address there.
  const known: LookupFunction = (_host, { all }, done) =>
    all ? done(null, [{ address: chosen.address, family: chosen.family }]) : done(null, chosen.address, chosen.family);
  const options = {
    method: 'POST',
    lookup: known,
    headers: {
      'content-type': 'application/cloudevents+json; charset=utf-8',
      'content-length': Buffer.byteLength(body),
      'user-agent': 'Tessarion',
      'webhook-id': id,
      'webhook-timestamp': String(timestamp),
      'webhook-signature': `v1,${signature}`,
    },
    signal: AbortSignal.timeout(ANSWER_MS),
  };
  return new Promise((resolve, reject) => {
    const answer = (response: IncomingMessage): void => {
      response.resume();
      resolve(response.statusCode ?? 0);
    };
    const request = target.protocol === 'https:' ? https(target, options, answer) : http(target, options, answer);
    request.on('error', (error) =>
      reject(error.name === 'AbortError' ? new Error(`${host} did not answer within ${ANSWER_MS / 1000} s.`) : error),
    );
    request.end(body);
  });
}

/** A webhook in the records. */
export interface WebhookRow {
  readonly id: string;
  readonly url: string;
  readonly types: Webhook['types'];
  readonly scope: string;
  readonly allows_private: boolean;
  readonly created_at: Date;
}

/** Something that is sent to a webhook, as it is on record. */
export interface DeliveryRow {
  readonly id: string;
  readonly webhook_id: string;
  readonly type: WebhookDelivery['type'];
  readonly subject: string;
  readonly at: Date;
  readonly due_at: Date | null;
  readonly delivered_at: Date | null;
  readonly tries: number;
  readonly status: number | null;
  readonly problem: string | null;
}

/** Puts a webhook on record. @param secret encrypted */
export async function insertWebhook(trx: OnRecords, row: WebhookRow, secret: string): Promise<void> {
  await trx('webhook').insert({ ...row, types: json(row.types), secret });
}

/** Takes a webhook off the records, with what was sent to it. */
export async function removeWebhook(trx: OnRecords, id: string): Promise<void> {
  await trx('webhook').where({ id }).delete();
}

/** Has something sent once more. @returns undefined where nothing was sent so */
export async function sendAgain(trx: OnRecords, id: string, at: Date): Promise<DeliveryRow | undefined> {
  const [row] = (await trx('webhook_delivery')
    .where({ id })
    .update({ due_at: at, tries: 0, delivered_at: null })
    .returning('*')) as DeliveryRow[];
  return row;
}
