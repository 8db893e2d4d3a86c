import { NOTICE_KINDS, type NoticeKind } from '@tessarion/core';
import type { Transporter } from 'nodemailer';
import type { Ground } from '../ground/ground.js';
import { callerOf } from '../people/actors.js';
import { sightOf } from '../people/sight.js';
import { sendDueDigests } from './digests.js';
import { HEADS } from './heads.js';
import { layOut } from './lay-out.js';
import { sendDueLetters } from './letters.js';
import { mailSettings } from './mail-settings.js';
import { pageOf } from './page-of.js';
import { retryAt } from './retry.js';
import { stopLink } from './stop-link.js';
import { LEASE_MS, openTransport } from './transport.js';

interface DueMail {
  readonly id: string;
  readonly person_id: string;
  readonly kind: NoticeKind;
  readonly request_id: string | null;
  readonly transfer_id: string | null;
  readonly site: string;
  readonly words: string;
  readonly item: string | null;
  readonly mail_tries: number;
  readonly name: string;
  readonly mail: string;
  readonly by_name: string | null;
  readonly title: string;
  readonly onto_path: string;
  /** Of the request or transfer, where it is about one. */
  readonly state: string | null;
}

/** Mails what is due. A mail server that is down loses nothing: what was not taken is tried again, later and later. */
export async function sendDueMail(installation: Ground, settings = mailSettings()): Promise<void> {
  if (!settings) return;
  const transport = openTransport(settings);
  try {
    await sendDueLetters(installation, transport);
    await sendDueDigests(installation, transport);
    for (let one = await takeDue(installation); one; one = await takeDue(installation))
      await send(installation, transport, one);
  } finally {
    transport.close();
  }
}

/** Takes the next mail for this worker: nobody else sends it while it does. */
async function takeDue({ records, now }: Ground): Promise<DueMail | undefined> {
  const { rows } = await records.raw<{ rows: DueMail[] }>(
    `WITH taken AS (
       UPDATE notice SET mail_due_at = ? WHERE id IN (
         SELECT id FROM notice WHERE mailed_at IS NULL AND mail_due_at <= ? AND NOT is_digest
         ORDER BY mail_due_at, id LIMIT 1 FOR UPDATE SKIP LOCKED)
       RETURNING id)
     SELECT t.*, p.name, p.mail FROM told_notice t JOIN person p ON p.id = t.person_id
     WHERE t.id IN (SELECT id FROM taken)`,
    [new Date(now().getTime() + LEASE_MS), now()],
  );
  return rows[0];
}

async function send(installation: Ground, transport: Transporter, one: DueMail): Promise<void> {
  const { records, now, log } = installation;
  const done = (changes: Record<string, unknown>) => records('notice').where({ id: one.id }).update(changes);
  // Who may not read the request any more is not told of it.
  const { actor } = await callerOf(records, { id: one.person_id, name: one.name, mail: one.mail }, undefined);
  if (!(await sightOf(records, actor)).seesEnvironment(one.onto_path)) {
    await done({ mail_due_at: null });
    return;
  }
  try {
    await transport.sendMail({
      to: { name: one.name, address: one.mail },
      // The same for every try, so that a mail that was taken twice is seen as one.
      messageId: `<${one.id}@tessarion>`,
      ...composeMail(one, installation.consoleUrl, stopLink(installation, one)),
    });
    await done({ mailed_at: now(), mail_problem: null, mail_tries: one.mail_tries + 1 });
  } catch (error) {
    log.warn({ notice: one.id, err: error }, 'mail was not taken; it is tried again');
    await done({
      mail_tries: one.mail_tries + 1,
      mail_problem: error instanceof Error ? error.message.slice(0, 300) : String(error),
      mail_due_at: retryAt(one.mail_tries, now()),
    });
  }
}

/** A mail about one thing that happened. */
export function composeMail(
  one: Omit<DueMail, 'id' | 'person_id' | 'mail_tries' | 'name' | 'mail'>,
  consoleUrl: string,
  stop: string,
): { subject: string; text: string; html: string; headers: Record<string, string> } {
  const letter = layOut({
    head: `${HEADS[one.kind]}: ${one.title}`,
    sentence:
      one.state === null
        ? `${one.kind === 'guest' ? 'A guest, about' : 'Onto'} ${one.onto_path}.`
        : `${one.by_name ?? 'Tessarion'}, onto ${one.onto_path}; it is ${one.state}.`,
    words: one.words,
    link: {
      text:
        one.transfer_id !== null ? 'Open the transfer' : one.request_id === null ? 'Open the site' : 'Open the request',
      url: pageOf(consoleUrl, one),
    },
    footer: `You are told because ${NOTICE_KINDS[one.kind]}.`,
    stop,
  });
  return { ...letter, headers: { 'List-Unsubscribe': `<${stop}>` } };
}
