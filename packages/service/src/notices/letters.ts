import type { Transporter } from 'nodemailer';
import { newId } from '../ground/data-folder.js';
import type { Ground } from '../ground/ground.js';
import { json, type OnRecords } from '../ground/open.js';
import { type Letter, layOut } from './lay-out.js';
import { mailSettings } from './mail-settings.js';
import { retryAt } from './retry.js';
import { LEASE_MS } from './transport.js';

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

/** A link that could not be mailed for so long is not mailed any more: it is handed over, or made anew. */
const LONGEST_MS = 7 * 86_400_000;

/**
 * Has something mailed that holds a link which lets somebody in, in the caller's transaction.
 *
 * @returns whether it is mailed: it is not where no mail server is set up, and is handed over then
 */
export async function writeLetter(
  trx: OnRecords,
  { folder, now }: Pick<Ground, 'folder' | 'now'>,
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
export async function sendDueLetters(installation: Ground, transport: Transporter): Promise<void> {
  const { records, now } = installation;
  await records('letter')
    .where('at', '<', new Date(now().getTime() - LONGEST_MS))
    .delete();
  for (let row = await takeDue(installation); row; row = await takeDue(installation))
    await send(installation, transport, row);
}

/** Takes the next letter for this worker: nobody else sends it while it does. */
async function takeDue({ records, now }: Ground): Promise<LetterRow | undefined> {
  const { rows } = await records.raw<{ rows: LetterRow[] }>(
    `UPDATE letter SET due_at = ? WHERE id IN (
       SELECT id FROM letter WHERE due_at <= ? ORDER BY due_at, id LIMIT 1 FOR UPDATE SKIP LOCKED)
     RETURNING id, content, tries`,
    [new Date(now().getTime() + LEASE_MS), now()],
  );
  return rows[0];
}

async function send(
  { records, now, folder, log }: Ground,
  transport: Transporter,
  { id, content, tries }: LetterRow,
): Promise<void> {
  try {
    const { name, mail, letter } = JSON.parse(folder.keys.decrypt(content)) as Addressed;
    await transport.sendMail({ to: { name, address: mail }, messageId: `<${id}@tessarion>`, ...layOut(letter) });
    await records('letter').where({ id }).delete();
  } catch (error) {
    log.warn({ letter: id, err: error }, 'a letter was not taken; it is tried again');
    const problem = error instanceof Error ? error.message.slice(0, 300) : String(error);
    await records('letter')
      .where({ id })
      .update({ tries: tries + 1, problem, due_at: retryAt(tries, now()) });
  }
}
