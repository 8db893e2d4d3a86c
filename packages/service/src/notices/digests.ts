import { createHash } from 'node:crypto';
import type { NoticeKind } from '@tessarion/core';
import type { Transporter } from 'nodemailer';
import type { Ground } from '../ground/ground.js';
import { callerOf } from '../people/actors.js';
import { sightOf } from '../people/sight.js';
import { HEADS } from './heads.js';
import { layOut } from './lay-out.js';
import { pageOf } from './page-of.js';
import { retryAt } from './retry.js';
import { stopLink } from './stop-link.js';
import { LEASE_MS } from './transport.js';

/** More than this is not listed one by one. */
const LISTED = 50;

interface DigestRow {
  readonly id: string;
  readonly kind: NoticeKind;
  readonly request_id: string | null;
  readonly transfer_id: string | null;
  readonly site: string;
  readonly state: string | null;
  readonly title: string;
  readonly onto_path: string;
  readonly by_name: string | null;
  readonly mail_tries: number;
}

/** Mails what is due to be mailed together: one mail for each person. */
export async function sendDueDigests(installation: Ground, transport: Transporter): Promise<void> {
  const { records, now } = installation;
  const due = (await records('notice as n')
    .join('person as p', 'p.id', 'n.person_id')
    .where({ is_digest: true, 'p.state': 'active' })
    .whereNull('mailed_at')
    .where('mail_due_at', '<=', now())
    .distinct('p.id', 'p.name', 'p.mail')) as { id: string; name: string; mail: string }[];
  for (const person of due) await send(installation, transport, person);
}

/** The same for every try, so that a mail that was taken twice is seen as one; another one when more is in it. */
const nameOf = (told: readonly DigestRow[]): string =>
  createHash('sha256')
    .update(told.map((one) => one.id).join(' '))
    .digest('hex')
    .slice(0, 32);

async function send(
  installation: Ground,
  transport: Transporter,
  person: { readonly id: string; readonly name: string; readonly mail: string },
): Promise<void> {
  const { records, now, log, consoleUrl } = installation;
  const { rows } = await records.raw<{ rows: DigestRow[] }>(
    `WITH taken AS (
       UPDATE notice SET mail_due_at = ? WHERE id IN (
         SELECT id FROM notice WHERE person_id = ? AND is_digest AND mailed_at IS NULL AND mail_due_at <= ?
         FOR UPDATE SKIP LOCKED)
       RETURNING id)
     SELECT * FROM told_notice WHERE id IN (SELECT id FROM taken) ORDER BY at, id`,
    [new Date(now().getTime() + LEASE_MS), person.id, now()],
  );
  const sight = await sightOf(records, (await callerOf(records, person, undefined)).actor);
  // What somebody may not read any more, they are not told of.
  const told = rows.filter((one) => sight.seesEnvironment(one.onto_path));
  const done = (changes: Record<string, unknown>) =>
    records('notice')
      .whereIn(
        'id',
        rows.map((one) => one.id),
      )
      .update(changes);
  const [first] = told;
  if (!first) {
    await done({ mail_due_at: null });
    return;
  }
  const stop = stopLink(installation, { person_id: person.id, kind: 'digest' });
  const heads = new Map<string, number>();
  for (const one of told) heads.set(HEADS[one.kind], (heads.get(HEADS[one.kind]) ?? 0) + 1);
  try {
    await transport.sendMail({
      to: { name: person.name, address: person.mail },
      messageId: `<digest-${nameOf(told)}@tessarion>`,
      headers: { 'List-Unsubscribe': `<${stop}>` },
      ...layOut({
        head: told.length === 1 ? 'One thing happened' : `${told.length} things happened`,
        sentence: `${[...heads].map(([head, count]) => `${head}: ${count}`).join('; ')}.`,
        words: '',
        list: told.slice(0, LISTED).map((one) => ({
          text: `${HEADS[one.kind]}: ${one.title}, ${one.state === null ? 'about' : 'onto'} ${one.onto_path}${one.by_name === null ? '' : `, by ${one.by_name}`}`,
          url: pageOf(consoleUrl, one),
        })),
        link: { text: 'Open the console', url: `${consoleUrl}/requests?view=waiting` },
        footer: 'You have these mailed once a day.',
        stop,
      }),
    });
    await done({ mailed_at: now(), mail_problem: null });
  } catch (error) {
    log.warn({ person: person.id, err: error }, 'a mail was not taken; it is tried again');
    const tries = Math.max(...rows.map((one) => one.mail_tries));
    await done({
      mail_tries: tries + 1,
      mail_problem: error instanceof Error ? error.message.slice(0, 300) : String(error),
      mail_due_at: retryAt(tries, now()),
    });
  }
}
