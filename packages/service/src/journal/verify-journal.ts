import { availableParallelism } from 'node:os';
import { Worker } from 'node:worker_threads';
import type { JournalVerdict } from '@tessarion/contract';
import {
  type Erasures,
  JournalCheck,
  type JournalFault,
  type KeyedDigest,
  type SignedHead,
  stampOf,
} from '@tessarion/core';
import type { Ground } from '../ground/ground.js';
import { type EntryRow, journalDigest, sealable } from './journal.js';
import { readHeads } from './seal-journal.js';
import type { Stretch, StretchChecked } from './verify-stretch.js';

/** More are counted, not listed. */
const MOST_FAULTS = 100;
/** Fewer entries are checked in one thread. */
const WORTH_A_THREAD = 20_000;

/** A sealer writes a head down each minute. */
const HEADS_WITHIN_MS = 5 * 60_000;

/**
 * Reads the whole journal in the order of its seals and checks every entry, in threads: the service goes on answering
 * meanwhile.
 *
 * @param elsewhere heads that were kept where nobody here can change them
 */
export async function verifyJournal(
  { records, recordsUrl, folder, now }: Pick<Ground, 'records' | 'recordsUrl' | 'folder' | 'now'>,
  elsewhere: readonly SignedHead[] = [],
): Promise<JournalVerdict> {
  const kept = (await Promise.all(folder.journalHeads.map(readHeads))).flat();
  const heads = [...kept, ...elsewhere].sort((a, b) => a.position - b.position);
  const digest = journalDigest(folder.keys);
  const erasures = await erasuresOf(records, digest);
  const newest = (await records('journal_entry').max('position as last').first()) as { last: number | null };
  const last = newest.last ?? 0;
  const threads = Math.max(1, Math.min(availableParallelism(), Math.floor(last / WORTH_A_THREAD)));
  const length = Math.ceil(last / threads);
  const parts = await Promise.all(
    Array.from({ length: threads }, (_one, i) =>
      inThread({
        recordsUrl,
        key: folder.keys.derive('journal'),
        heads,
        erasures,
        after: i * length,
        last: (i + 1) * length,
        isEnd: i === threads - 1,
      }),
    ),
  );
  const waiting = (await records('journal_entry').whereNull('position').orderBy('at').orderBy('id')) as EntryRow[];
  const check = new JournalCheck(digest, [], erasures);
  let unsealed = 0;
  for (const row of waiting) if (check.unsealed({ ...sealable(row), stamp: row.stamp })) unsealed++;
  const faults = [...parts.flatMap((one) => one.faults), ...check.faults];
  const head = heads.at(-1);
  if (last === 0 && waiting.length === 0) faults.unshift({ what: 'empty' });
  for (const file of folder.journalHeads) {
    const first = last === 0 ? undefined : await records('journal_entry').where({ position: 1 }).first('at');
    const isOld = first !== undefined && now().getTime() - (first.at as Date).getTime() > HEADS_WITHIN_MS;
    if (isOld && (await readHeads(file)).length === 0) faults.unshift({ what: 'no heads', file });
  }
  return {
    checked: parts.reduce((sum, one) => sum + one.checked, 0),
    unsealed,
    faults: faults.slice(0, MOST_FAULTS).map((fault) => ({
      what: fault.what,
      position: 'position' in fault ? fault.position : null,
      words: wordsOf(fault),
    })),
    head: head ?? null,
  };
}

/** What entries that are ours say was erased. */
async function erasuresOf(records: Ground['records'], digest: KeyedDigest): Promise<Erasures> {
  const rows = (await records('journal_entry')
    .whereIn('act', ['personErase', 'valueErase'])
    .where({ outcome: 'done' })
    .orderByRaw('position NULLS LAST')) as EntryRow[];
  const ours = rows.filter((row) => stampOf(sealable(row), digest) === row.stamp);
  const entries = new Map<string, string>();
  for (const { act, details } of ours)
    if (act === 'valueErase')
      for (const [id, stamp] of Object.entries((JSON.parse(details) as { entries: Record<string, string> }).entries))
        entries.set(id, stamp);
  return { people: new Set(ours.filter((row) => row.act === 'personErase').map((row) => row.thing)), entries };
}

function inThread(stretch: Stretch): Promise<StretchChecked> {
  return new Promise((resolve, reject) => {
    const thread = new Worker(new URL('./verify-thread.js', import.meta.url), { workerData: stretch });
    thread.once('message', resolve);
    thread.once('error', reject);
    thread.once('exit', (code) => reject(new Error(`The thread that checks seals ended with ${code}.`)));
  });
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
    case 'who altered':
      return `Who did what entry ${fault.entry} at ${fault.position} says is not what was written there.`;
    case 'who gone':
      return `Who did what entry ${fault.entry} at ${fault.position} says is gone, and nobody erased them.`;
    case 'empty':
      return 'The journal is empty: all that was done here is gone.';
    case 'no heads':
      return `Nothing is written down in ${fault.file}, where there should be how far the journal reaches.`;
    case 'cut off':
      return `The journal reached ${fault.position} at ${fault.written}; its end has been cut off since.`;
    case 'head not ours':
      return `A head that was written down for ${fault.position} is not signed by this installation.`;
    case 'foreign':
      return `Entry ${fault.entry} was not written by this installation.`;
  }
}
