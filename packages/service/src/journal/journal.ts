import { createHmac, randomBytes } from 'node:crypto';
import type { JournalEntry, JournalFilter } from '@tessarion/contract';
import { canonicalJson, digestOfSide, type KeyedDigest, type SealableEntry, stampOf } from '@tessarion/core';
import { newId } from '../ground/data-folder.js';
import type { Keys } from '../ground/keys.js';
import type { OnRecords } from '../ground/open.js';

/** Something that was done, or refused. */
export interface Act {
  /** `person p-…`, `person p-… token k-…`, `schedule of SITE/NAME`, `worker`, or `nobody` before anybody signed in. */
  readonly actor: string;
  readonly act: string;
  readonly outcome: 'done' | 'refused' | 'failed';
  readonly thing: string;
  readonly details: Readonly<Record<string, unknown>>;
  /** Who that was, in a way that can be erased. */
  readonly who: Who | undefined;
}

/** Who did something, as the journal names them; erased apart from what they did. */
export interface Who {
  readonly person: string | null;
  readonly name: string;
  /** Network address. */
  readonly from: string | null;
}

/** An entry as it stands in the records; position and seal are null until it is sealed. */
export interface EntryRow extends Omit<SealableEntry, 'at'> {
  readonly at: Date;
  readonly stamp: string;
  readonly position: number | null;
  readonly seal: string | null;
}

/** The keyed digest of the journal; its key is derived from one that lies outside the records. */
export const journalDigest = (keys: Keys): KeyedDigest => {
  const key = keys.derive('journal');
  return (text) => createHmac('sha256', key).update(text).digest('hex');
};

/** What of an entry is sealed. */
export const sealable = ({ id, at, actor, act, outcome, thing, details, side }: EntryRow): SealableEntry => ({
  id,
  at: at.toISOString(),
  actor,
  act,
  outcome,
  thing,
  details,
  side,
});

/** Everything that was done. Entries are written with the act, in its own transaction, and sealed in order afterwards. */
export class Journal {
  readonly #digest: KeyedDigest;

  constructor(
    keys: Keys,
    private readonly now: () => Date,
  ) {
    this.#digest = journalDigest(keys);
  }

  async write(on: OnRecords, { who, details, ...act }: Act): Promise<void> {
    const side = who && { salt: randomBytes(16).toString('hex'), text: canonicalJson(who) };
    const entry: SealableEntry = {
      ...act,
      id: newId('j'),
      at: this.now().toISOString(),
      details: canonicalJson(details),
      side: side ? digestOfSide(side, this.#digest) : '',
    };
    await on('journal_entry').insert({ ...entry, stamp: stampOf(entry, this.#digest) });
    if (side && who) await on('journal_side').insert({ entry_id: entry.id, person_id: who.person, ...side });
  }

  async list(
    on: OnRecords,
    filter: JournalFilter & { before?: { at: string; id: string } | undefined; limit: number },
  ): Promise<JournalEntry[]> {
    const query = on('journal_entry as e')
      .leftJoin('journal_side as s', 's.entry_id', 'e.id')
      .orderBy('e.at', 'desc')
      .orderBy('e.id', 'desc')
      .limit(filter.limit)
      .select('e.*', 's.text as side_text');
    for (const column of ['act', 'outcome', 'thing', 'actor'] as const)
      if (filter[column] !== undefined) query.where(`e.${column}`, filter[column]);
    if (filter.find !== undefined) {
      const like = `%${filter.find.replace(/[\\%_]/g, '\\$&')}%`;
      query.whereRaw('(e.thing ILIKE :like OR e.details ILIKE :like OR s.text ILIKE :like)', { like });
    }
    if (filter.since !== undefined) query.where('e.at', '>=', filter.since);
    if (filter.until !== undefined) query.where('e.at', '<', filter.until);
    if (filter.before) query.whereRaw('(e.at, e.id) < (?::timestamptz, ?)', [filter.before.at, filter.before.id]);
    const entries = ((await query) as (EntryRow & { side_text: string | null })[]).map((row) => {
      const who = row.side_text === null ? undefined : (JSON.parse(row.side_text) as Who);
      return {
        id: row.id,
        position: row.position,
        at: row.at.toISOString(),
        actor: row.actor,
        name: who?.name ?? null,
        from: who?.from ?? null,
        act: row.act,
        outcome: row.outcome,
        thing: row.thing,
        details: JSON.parse(row.details) as JournalEntry['details'],
      };
    });
    const names = await namesOf(
      on,
      entries.flatMap(({ thing, details }) => [thing, details.request]),
    );
    return entries.map((one) => ({
      ...one,
      called: names.get(String(one.details.request)) ?? names.get(one.thing) ?? null,
    }));
  }
}

/** Titles of change requests and names of people, by their ids. */
async function namesOf(on: OnRecords, ids: readonly unknown[]): Promise<Map<string, string>> {
  const of = (prefix: string): string[] => [
    ...new Set(ids.filter((id): id is string => typeof id === 'string' && id.startsWith(prefix))),
  ];
  const requests = (await on('change_request').whereIn('id', of('q-')).select('id', 'title as name')) as Named[];
  const people = (await on('person').whereIn('id', of('p-')).select('id', 'name')) as Named[];
  return new Map([...requests, ...people].map(({ id, name }) => [id, name]));
}

interface Named {
  readonly id: string;
  readonly name: string;
}

/** Takes out of the journal who somebody was; what they did stays, and the seals hold. */
export async function erasePerson(on: OnRecords, person: string): Promise<number> {
  return on('journal_side').where({ person_id: person }).delete();
}
