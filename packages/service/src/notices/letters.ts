import type { Transporter } from 'nodemailer';
import { newId } from '../data-folder.js';
import { json, type OnRecords } from '../records/open.js';
import type { Installation } from '../work/context.js';
import { type Letter, layOut } from './lay-out.js';
import { mailSettings } from './mail-settings.js';
import { retryAt } from './retry.js';

interface Addressed {
  readonly name: string;
  readonly mail: string;
  readonly letter: Letter;
}

interface LetterRow {
  readonly id: string;
  readonly content: string;
  readonly tries: number;
}

const AT_ONCE = 50;
/** A worker that dies over a letter holds it for this long. */
const LEASE_MS = 5 * 60_000;
/** A link that could not be mailed for so long is not mailed any more: it is handed over, or made anew. */
const LONGEST_MS = 7 * 86_400_000;

/**
 * Has something mailed that holds a link which lets somebody in, in the caller's transaction.
 *
 * @returns whether it is mailed: it is not where no mail server is set up, and is handed over then
 */
export async function writeLetter(
  trx: OnRecords,
  { folder, now }: Pick<Installation, 'folder' | 'now'>,
  addressed: Addressed,
): Promise<boolean> {
  if (!mailSettings()) return false;
  await trx('letter').insert({
    id: newId('m'),
    content: folder.keys.encrypt(json(addressed)),
    at: now(),
    due_at: now(),
  });
  return true;
}

/** Sends the letters that are due; one that was taken is gone from the records. */
export async function sendDueLetters(installation: Installation, transport: Transporter): Promise<void> {
  const { records, now, folder, log } = installation;
  await records('letter')
    .where('at', '<', new Date(now().getTime() - LONGEST_MS))
    .delete();
  const { rows } = await records.raw<{ rows: LetterRow[] }>(
    `UPDATE letter SET due_at = ? WHERE id IN (
       SELECT id FROM letter WHERE due_at <= ? ORDER BY due_at, id LIMIT ${AT_ONCE} FOR UPDATE SKIP LOCKED)
     RETURNING id, content, tries`,
    [new Date(now().getTime() + LEASE_MS), now()],
  );
  for (const row of rows)
    try {
      const { name, mail, letter } = JSON.parse(folder.keys.decrypt(row.content)) as Addressed;
      await transport.sendMail({
        to: { name, address: mail },
        messageId: `<${row.id}@tessarion>`,
        ...layOut(letter),
      });
      await records('letter').where({ id: row.id }).delete();
    } catch (error) {
      log.warn({ letter: row.id, err: error }, 'a letter was not taken; it is tried again');
      await records('letter')
        .where({ id: row.id })
        .update({
          tries: row.tries + 1,
          problem: error instanceof Error ? error.message.slice(0, 300) : String(error),
          due_at: retryAt(row.tries, now()),
        });
    }
}
