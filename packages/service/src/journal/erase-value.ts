import { canonicalJson, type SealableEntry, stampOf } from '@tessarion/core';
import type { Ground } from '../ground/ground.js';
import type { Keys } from '../ground/keys.js';
import { json, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { type EntryRow, journalDigest, sealable } from './journal.js';
import { holdSealing } from './seal-journal.js';

/** How a column holds words: as they are, as JSON (in a column of that type, or as text), or as sealed JSON. */
type Form = 'text' | 'json' | 'json text' | 'sealed';

/** Where words of a site, or of people who write about it, stand in the records; names and ids are none. */
export const PLACES: Readonly<Record<string, Readonly<Record<string, Form>>>> = {
  change_request: { title: 'text', description: 'text', override: 'text', because: 'text', urgent: 'text' },
  environment: { description: 'text', unreached: 'json', drift: 'json' },
  event: { data: 'json' },
  forecast: { failure: 'json', result: 'json', wishes: 'json' },
  forecast_item: { item: 'json', fields: 'sealed' },
  freeze: { reason: 'text' },
  guest_link: { words: 'text' },
  guest_look: { title: 'text' },
  guest_word: { text: 'text' },
  letter: { content: 'sealed', problem: 'text' },
  notice: { words: 'text', mail_problem: 'text' },
  request_comment: { text: 'text', former: 'json' },
  request_event: { words: 'text' },
  request_revision: { items: 'json' },
  request_step: { text: 'text' },
  request_verdict: { words: 'text' },
  saved_view: { name: 'text', query: 'text' },
  snapshot: { reason: 'text', damage: 'json' },
  transfer: {
    sentence: 'json',
    progress: 'json',
    failure: 'json',
    input: 'sealed',
    data: 'sealed',
    checks: 'json',
    warnings: 'json',
    written: 'json',
    items: 'json',
    remains: 'json',
    totals: 'json',
    proof: 'json',
    urgent: 'text',
    override: 'text',
  },
  transfer_item: { item: 'text', source_item: 'text', title: 'text' },
  transfer_log: { text: 'text' },
  transfer_step: { detail: 'text' },
  webhook_delivery: { body: 'json text', problem: 'text' },
};

const ERASED = '[erased]';
const AT_ONCE = 1000;
const SHORTEST = 4;
const FEWEST_DIGITS = 6;

/** Words that Tessarion itself writes: to take them out would take the records apart. */
const OWN_WORD = /^[a-z0-9._:/-]*$/;
const NUMBER = /^\d+$/;

type Erase = (text: string) => string;

/**
 * @param value what a visitor is or was called, such as a name or a mail address
 * @throws {ProblemError} `invalid` where it would take out more than that
 */
function erasing(value: string): Erase {
  const isNumber = NUMBER.test(value) && value.length >= FEWEST_DIGITS;
  if (value.trim().length < SHORTEST || (OWN_WORD.test(value) && !isNumber))
    throw new ProblemError(
      'invalid',
      `This would take out more than somebody's: at least ${SHORTEST} signs are needed, and not only small letters, or a number of ${FEWEST_DIGITS} digits.`,
      'Give the whole name, mail address or number, as the site has it.',
    );
  const exact = value.replace(/[\\^$.*+?()[\]{}|]/g, '\\$&');
  const pattern = new RegExp(isNumber ? `(?<!\\w)${exact}(?!\\w)` : exact, 'gu');
  return (text) => text.replace(pattern, ERASED);
}

/** The same document with something taken out of every text in it; names of its fields are none. */
function eraseIn(document: unknown, erase: Erase): unknown {
  if (typeof document === 'string') return erase(document);
  if (Array.isArray(document)) return document.map((one) => eraseIn(one, erase));
  if (typeof document !== 'object' || document === null) return document;
  return Object.fromEntries(Object.entries(document).map(([name, one]) => [name, eraseIn(one, erase)]));
}

function erasedForm(form: Form, value: string, erase: Erase, keys: Keys): string {
  switch (form) {
    case 'text':
      return erase(value);
    case 'json':
    case 'json text':
      return json(eraseIn(JSON.parse(value), erase));
    case 'sealed': {
      const document = JSON.parse(keys.decrypt(value));
      const erased = eraseIn(document, erase);
      return json(erased) === json(document) ? value : keys.encrypt(json(erased));
    }
  }
}

/** What was taken out, and of how much. */
export interface Erased {
  /** Rows of records that held it. */
  readonly rows: number;
  /** Entries of the journal that held it, with the stamp that each has without it. */
  readonly entries: Readonly<Record<string, string>>;
}

/**
 * Takes a value that a site had of somebody out of all records. Seals of the journal hold: what was taken out of an entry is
 * said by another one, which whoever calls this writes in the same transaction.
 *
 * @throws {ProblemError} `invalid` where it would take out more than somebody's
 */
export async function eraseValue(trx: OnRecords, installation: Ground, value: string): Promise<Erased> {
  const erase = erasing(value);
  let rows = 0;
  for (const [table, columns] of Object.entries(PLACES))
    for (const [column, form] of Object.entries(columns))
      rows += await eraseInColumn(trx, { table, column, form, value, erase, keys: installation.folder.keys });
  await holdSealing(trx);
  const digest = journalDigest(installation.folder.keys);
  const held = (await trx('journal_entry')
    .where({ is_foreign: false })
    .whereRaw('position(? in details) > 0', [JSON.stringify(value).slice(1, -1)])) as EntryRow[];
  const entries: Record<string, string> = {};
  for (const row of held) {
    const details = canonicalJson(eraseIn(JSON.parse(row.details), erase));
    if (details === row.details) continue;
    const without: SealableEntry = { ...sealable(row), details };
    const stamp = stampOf(without, digest);
    // One that has no seal yet is sealed as it is now.
    if (row.position !== null) entries[row.id] = stamp;
    await trx('journal_entry')
      .where({ id: row.id })
      .update(row.position === null ? { details, stamp } : { details });
  }
  return { rows, entries };
}

async function eraseInColumn(
  trx: OnRecords,
  {
    table,
    column,
    form,
    value,
    erase,
    keys,
  }: {
    readonly table: string;
    readonly column: string;
    readonly form: Form;
    readonly value: string;
    readonly erase: Erase;
    readonly keys: Keys;
  },
): Promise<number> {
  const words = form === 'text' ? value : JSON.stringify(value).slice(1, -1);
  let rows = 0;
  // Row by row of the disk: rows that are written move behind the last one, and are looked at once more there.
  for (let behind = '(0,0)'; ; ) {
    const some = (await trx(table)
      .whereRaw('ctid > ?::tid', [behind])
      .whereNotNull(column)
      .modify((query) => {
        if (form !== 'sealed') query.whereRaw('position(? in ??::text) > 0', [words, column]);
      })
      .orderByRaw('ctid')
      .limit(AT_ONCE)
      .select(trx.raw('ctid::text AS at'), trx.raw('??::text AS value', [column]))) as { at: string; value: string }[];
    for (const { at, value: former } of some) {
      const now = erasedForm(form, former, erase, keys);
      if (now === former || (form === 'json' && json(JSON.parse(former)) === now)) continue;
      await trx(table)
        .whereRaw('ctid = ?::tid', [at])
        .update({ [column]: now });
      rows++;
    }
    if (some.length < AT_ONCE) return rows;
    behind = (some.at(-1) as { at: string }).at;
  }
}
