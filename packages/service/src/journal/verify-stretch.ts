import { createHmac } from 'node:crypto';
import {
  type Erasures,
  JournalCheck,
  type JournalFault,
  NO_SEAL,
  type SealedEntry,
  type SignedHead,
} from '@tessarion/core';
import pg from 'pg';

/** A stretch of the journal: the entries behind one place, up to and with another. */
export interface Stretch {
  readonly recordsUrl: string;
  readonly key: Uint8Array;
  readonly heads: readonly SignedHead[];
  readonly erasures: Erasures;
  readonly after: number;
  readonly last: number;
  /** Whether nothing comes behind it. */
  readonly isEnd: boolean;
}

/** How many entries of a stretch were read, and what is wrong with them. */
export interface StretchChecked {
  readonly checked: number;
  readonly faults: readonly JournalFault[];
}

const BATCH = 10_000;
/** Times as they were sealed: RFC 3339 in UTC, to the millisecond. */
const COLUMNS = `e.id, to_char(at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'), actor, act, outcome, thing, details, side,
  stamp, position, coalesce(seal, ''), s.salt, s.text`;

type Row = [
  ...[id: string, at: string, actor: string, act: string, outcome: 'done', thing: string, details: string],
  ...[side: string, stamp: string, position: number, seal: string, salt: string | null, text: string | null],
];

const entryOf = (row: Row): SealedEntry => {
  const [id, at, actor, act, outcome, thing, details, side, stamp, position, seal, salt, text] = row;
  return {
    id,
    at,
    actor,
    act,
    outcome,
    thing,
    details,
    side,
    stamp,
    position,
    seal,
    sideRecord: salt === null || text === null ? undefined : { salt, text },
  };
};

/** Checks the seals of a stretch, on a connection of its own. */
export async function verifyStretch({
  recordsUrl,
  key,
  heads,
  erasures,
  after,
  last,
  isEnd,
}: Stretch): Promise<StretchChecked> {
  const records = new pg.Client({ connectionString: recordsUrl, application_name: 'tessarion verify' });
  await records.connect();
  try {
    const read = (from: number): Promise<Row[]> =>
      records
        .query({
          text: `SELECT ${COLUMNS} FROM journal_entry e LEFT JOIN journal_side s ON s.entry_id = e.id
            WHERE position > $1 AND position <= $2 ORDER BY position LIMIT ${BATCH}`,
          values: [from, isEnd ? Number.MAX_SAFE_INTEGER : last],
          rowMode: 'array',
        })
        .then((result) => result.rows as Row[]);
    const { rows: before } = await records.query('SELECT seal FROM journal_entry WHERE position = $1', [after]);
    const start = { position: after, seal: after === 0 ? NO_SEAL : (before[0]?.seal as string | undefined) };
    const digest = (text: string): string => createHmac('sha256', key).update(text).digest('hex');
    const check = new JournalCheck(
      digest,
      heads.filter((head) => head.position > after && (isEnd || head.position <= last)),
      erasures,
      start,
    );
    let checked = 0;
    for (let next: Promise<Row[]> | undefined = read(after); next; ) {
      const rows: Row[] = await next;
      // The server reads on while these are checked.
      const end = rows.at(-1);
      next = end && rows.length === BATCH ? read(end[9]) : undefined;
      for (const row of rows) check.next(entryOf(row));
      checked += rows.length;
    }
    return { checked, faults: check.end(isEnd ? undefined : last) };
  } finally {
    await records.end();
  }
}
