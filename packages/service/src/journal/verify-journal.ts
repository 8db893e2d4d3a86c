import type { JournalVerdict } from '@tessarion/contract';
import { JournalCheck, type JournalFault } from '@tessarion/core';
import type { Installation } from '../work/context.js';
import { type EntryRow, journalDigest, sealable } from './journal.js';
import { readHeads } from './seal-journal.js';

const BATCH = 10_000;
/** More are counted, not listed. */
const MOST_FAULTS = 100;

/** Reads the whole journal in the order of its seals and checks every entry. */
export async function verifyJournal({
  records,
  folder,
}: Pick<Installation, 'records' | 'folder'>): Promise<JournalVerdict> {
  const heads = await readHeads(folder.journalHeads);
  const check = new JournalCheck(journalDigest(folder.keys), heads);
  const after = (position: number) =>
    records('journal_entry')
      .where('position', '>', position)
      .orderBy('position')
      .limit(BATCH)
      .select('id', 'at', 'actor', 'act', 'outcome', 'thing', 'details', 'side', 'stamp', 'position', 'seal')
      .then((rows) => rows as (EntryRow & { position: number; seal: string })[]);
  let checked = 0;
  for (let next: ReturnType<typeof after> | undefined = after(-1); next; ) {
    const rows: Awaited<typeof next> = await next;
    // The server reads on while these are checked.
    const last = rows.at(-1);
    next = last && rows.length === BATCH ? after(last.position) : undefined;
    for (const row of rows)
      check.next({ ...sealable(row), position: row.position, stamp: row.stamp, seal: row.seal ?? '' });
    checked += rows.length;
  }
  const waiting = (await records('journal_entry').whereNull('position').orderBy('at').orderBy('id')) as EntryRow[];
  let unsealed = 0;
  for (const row of waiting) if (check.unsealed({ ...sealable(row), stamp: row.stamp })) unsealed++;
  const faults = check.end();
  const head = heads.at(-1);
  return {
    checked,
    unsealed,
    faults: faults.slice(0, MOST_FAULTS).map((fault) => ({
      what: fault.what,
      position: 'position' in fault ? fault.position : null,
      words: wordsOf(fault),
    })),
    head: head ? { position: head.position, at: head.at } : null,
  };
}

function wordsOf(fault: JournalFault): string {
  switch (fault.what) {
    case 'altered':
      return `Entry ${fault.entry} at ${fault.position} is not what was sealed there.`;
    case 'missing':
      return fault.position === fault.last
        ? `The entry at ${fault.position} is gone.`
        : `The entries from ${fault.position} to ${fault.last} are gone.`;
    case 'out of order':
      return `Entry ${fault.entry} stands at ${fault.position}, which was passed already.`;
    case 'cut off':
      return `The journal reached ${fault.position} at ${fault.written}; its end has been cut off since.`;
    case 'head not ours':
      return `A head that was written down for ${fault.position} is not signed by this installation.`;
    case 'foreign':
      return `Entry ${fault.entry} was not written by this installation.`;
  }
}
