import type { Check, Failure, Progress, StreamEvent, Transfer, TransferKind, TransferState } from '@tessarion/contract';
import type { SentencePiece } from '@tessarion/core';
import { noTransfer } from '../ground/absent.js';
import type { DataFolder } from '../ground/data-folder.js';
import { newId } from '../ground/data-folder.js';
import { EVENT_CHANNEL, publishEvent } from '../ground/events.js';
import { iso, json, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { enqueue, offer } from '../ground/queue.js';
import { type Doer, doneBy } from '../people/people.js';
import type { Sight } from '../people/sight.js';
import { outcomeOf, type TransferData, type TransferOutcome } from './data.js';
import type { Inputs } from './inputs.js';

/** A transfer in the records. */
export interface TransferRecord {
  readonly id: string;
  readonly kind: TransferKind;
  readonly state: TransferState;
  readonly from_path: string | null;
  readonly onto_path: string;
  readonly site: string;
  readonly sentence: SentencePiece[];
  readonly person: string;
  readonly person_id: string | null;
  readonly created_at: Date;
  readonly started_at: Date | null;
  readonly ended_at: Date | null;
  readonly progress: Progress | null;
  readonly failure: Failure | null;
  readonly undo_of: string | null;
  readonly undone_by: string | null;
  readonly acknowledged: boolean;
  readonly stop_asked: boolean;
  /** What was asked for; {@link inputOf} reads it. Encrypted: it may hold logins. */
  readonly input: unknown;
  /** What its steps noted for later ones and for a recovery; {@link dataOf} reads it. Encrypted. */
  readonly noted: unknown;
  /** Of that, what is asked of a transfer after it has ended. */
  readonly outcome: TransferOutcome;
  readonly checks: Check[];
  /** What was found when the destination was read again. */
  readonly proof: Check[];
  readonly warnings: string[];
  readonly written: { count: number; kind: string; plural: string }[];
  readonly items: { kind: string; title: string; change: 'new' | 'changed' | 'deleted'; detail: string }[];
  readonly remains: string[];
  readonly totals: { files: number; rows: number; bytes: number };
  readonly forecast: string | null;
  /** The change request that it delivers. */
  readonly request: string | null;
  /** Why it went past approval and claims; why outside a window. */
  readonly urgent: string | null;
  readonly override: string | null;
  readonly worker: string | null;
}

/** What a transfer says of where an environment stands. */
export type Move = Pick<
  TransferRecord,
  | 'id'
  | 'kind'
  | 'state'
  | 'from_path'
  | 'onto_path'
  | 'started_at'
  | 'ended_at'
  | 'progress'
  | 'failure'
  | 'acknowledged'
  | 'remains'
> & { readonly isPastSwitch: boolean };

/** A step of a transfer in the records. */
export interface StepRecord {
  readonly transfer_id: string;
  readonly position: number;
  readonly name: string;
  readonly title: string;
  readonly state: 'coming' | 'running' | 'done' | 'failed';
  readonly started_at: Date | null;
  readonly ended_at: Date | null;
  readonly detail: string | null;
}

/** A transfer that is asked for, whoever asks. */
export type Wanted = {
  [K in TransferKind]: WantedOfAny & { readonly kind: K; readonly input: Inputs[K] };
}[TransferKind];

/** A transfer that somebody asks for. */
export type NewTransfer = Wanted & { readonly by: Doer };

interface WantedOfAny {
  readonly from: string | null;
  readonly onto: string;
  readonly site: string;
  readonly sentence: SentencePiece[];
  readonly undoOf?: string;
  readonly forecast?: string;
  readonly request?: string;
  readonly urgent?: string;
  readonly override?: string;
  readonly warnings?: readonly string[];
  readonly checks?: readonly Check[];
}

const JSON_COLUMNS = [
  'sentence',
  'progress',
  'failure',
  'checks',
  'proof',
  'warnings',
  'written',
  'items',
  'remains',
  'totals',
] as const;
type Row = Omit<TransferRecord, 'input' | 'noted' | 'outcome'> & { input: string; data: string };

/**
 * Whether who records something waits until no loss of power can undo it (`forced`), or not: `soon` it is, at the latest with
 * whatever is recorded as forced after it.
 */
export type Durability = 'forced' | 'soon';

/** Within a statement: its transaction does not wait for the disk (PostgreSQL, asynchronous commit). */
const DURABLE_SOON = "set_config('synchronous_commit', 'off', true)";

/** The transfers on record. */
export class Transfers {
  readonly #folder: DataFolder;
  readonly #now: () => Date;

  constructor(folder: DataFolder, now: () => Date) {
    this.#folder = folder;
    this.#now = now;
  }

  #read({ input, data, ...row }: Row): TransferRecord {
    const noted = this.#open(data);
    return { ...row, input: this.#open(input), noted, outcome: outcomeOf(noted) };
  }

  #open(sealed: string): unknown {
    return JSON.parse(this.#folder.keys.decrypt(sealed));
  }

  /** @throws {ProblemError} `not-found` */
  async get(on: OnRecords, id: string): Promise<TransferRecord> {
    const row = await on<Row>('transfer').where({ id }).first();
    if (!row) throw noTransfer(id);
    return this.#read(row as Row);
  }

  /** Records a transfer and wakes the workers, both in the caller's transaction. */
  async create(on: OnRecords, wanted: NewTransfer): Promise<TransferRecord> {
    const id = newId('t');
    const { keys } = this.#folder;
    await on('transfer').insert({
      id,
      kind: wanted.kind,
      state: 'waiting',
      from_path: wanted.from,
      onto_path: wanted.onto,
      site: wanted.site,
      sentence: json(wanted.sentence),
      ...doneBy(wanted.by),
      created_at: this.#now(),
      input: keys.encrypt(json(wanted.input)),
      data: keys.encrypt('{}'),
      undo_of: wanted.undoOf ?? null,
      forecast: wanted.forecast ?? null,
      request: wanted.request ?? null,
      urgent: wanted.urgent ?? null,
      override: wanted.override ?? null,
      warnings: json(wanted.warnings ?? []),
      checks: json(wanted.checks ?? []),
    });
    const keeper = wanted.forecast === undefined ? undefined : await keeperOf(on, wanted.forecast);
    await (keeper === undefined ? enqueue(on, 'transfer', id) : offer(on, id, keeper));
    await publishEvent(on, {
      type: 'transfer',
      transfer: id,
      site: wanted.site,
      onto: wanted.onto,
      state: 'waiting',
      progress: null,
    });
    return this.get(on, id);
  }

  /**
   * Notes what steps found and did, in place of what was noted before.
   *
   * @param durability whether the disk is waited for
   */
  async note(on: OnRecords, id: string, data: TransferData, durability: Durability = 'forced'): Promise<void> {
    await on('transfer')
      .where({ id })
      .modify((query) => {
        if (durability === 'soon') query.whereRaw(`${DURABLE_SOON} IS NOT NULL`);
      })
      .update({ data: this.#folder.keys.encrypt(json(data)) });
  }

  async update(
    on: OnRecords,
    id: string,
    changes: Partial<Omit<TransferRecord, 'input' | 'noted' | 'outcome'>>,
  ): Promise<void> {
    const row: Record<string, unknown> = { ...changes };
    for (const column of JSON_COLUMNS)
      if (column in changes) row[column] = changes[column] === null ? null : json(changes[column]);
    await on('transfer').where({ id }).update(row);
  }

  async list(
    on: OnRecords,
    filter: {
      site?: string | undefined;
      kind?: string | undefined;
      state?: string | undefined;
      person?: string | undefined;
      onto?: string | undefined;
      since?: string | undefined;
      until?: string | undefined;
      before?: { at: string; id: string } | undefined;
      sight?: Sight | undefined;
      limit: number;
    },
  ): Promise<TransferRecord[]> {
    const query = on<Row>('transfer').orderBy('created_at', 'desc').orderBy('id', 'desc').limit(filter.limit);
    for (const column of ['site', 'kind', 'state', 'person'] as const)
      if (filter[column] !== undefined) query.where(column, filter[column]);
    if (filter.onto !== undefined) query.where('onto_path', filter.onto);
    if (filter.since !== undefined) query.where('created_at', '>=', filter.since);
    if (filter.until !== undefined) query.where('created_at', '<', filter.until);
    if (filter.sight) filter.sight.narrow(query, 'site', 'onto_path');
    if (filter.before) query.whereRaw('(created_at, id) < (?::timestamptz, ?)', [filter.before.at, filter.before.id]);
    return ((await query) as Row[]).map((row) => this.#read(row));
  }

  /** For each environment, of one site where it is named, its running transfer, if any, and its last ended one. */
  async newestByEnvironment(
    on: OnRecords,
    site?: string,
  ): Promise<Map<string, { running?: TransferRecord; last?: TransferRecord }>> {
    const rows = await on.raw<{ rows: Row[] }>(
      `SELECT DISTINCT ON (onto_path, ended_at IS NULL) * FROM transfer
        WHERE kind <> 'snapshot' ${site === undefined ? '' : 'AND site = :site'}
        ORDER BY onto_path, ended_at IS NULL, coalesce(ended_at, created_at) DESC`,
      site === undefined ? {} : { site },
    );
    const found = new Map<string, { running?: TransferRecord; last?: TransferRecord }>();
    for (const row of rows.rows) {
      const entry = found.get(row.onto_path) ?? {};
      found.set(row.onto_path, { ...entry, [row.ended_at === null ? 'running' : 'last']: this.#read(row) });
    }
    return found;
  }

  /** The same with no more than a list of all environments shows, whatever each transfer has on record. */
  async newestMoves(on: OnRecords, site?: string): Promise<Map<string, { running?: Move; last?: Move }>> {
    const { rows } = await on.raw<{ rows: (Omit<Move, 'isPastSwitch'> & { data: string | null })[] }>(
      `SELECT DISTINCT ON (onto_path, ended_at IS NULL) id, kind, state, from_path, onto_path, started_at, ended_at,
         progress, failure, acknowledged, remains, CASE WHEN state = 'failed' AND NOT acknowledged THEN data END AS data
       FROM transfer WHERE kind <> 'snapshot' ${site === undefined ? '' : 'AND site = :site'}
       ORDER BY onto_path, ended_at IS NULL, coalesce(ended_at, created_at) DESC`,
      site === undefined ? {} : { site },
    );
    const found = new Map<string, { running?: Move; last?: Move }>();
    for (const { data, ...row } of rows) {
      const isPastSwitch = data !== null && outcomeOf(this.#open(data)).pastSwitch === true;
      const entry = found.get(row.onto_path) ?? {};
      found.set(row.onto_path, { ...entry, [row.ended_at === null ? 'running' : 'last']: { ...row, isPastSwitch } });
    }
    return found;
  }

  /** Whether a transfer reads from or writes onto an environment now. */
  async isBusy(on: OnRecords, path: string): Promise<boolean> {
    const busy = await on('transfer')
      .where({ state: 'running' })
      .where((either) => either.where({ onto_path: path }).orWhere({ from_path: path }))
      .first('id');
    return busy !== undefined;
  }

  async steps(on: OnRecords, id: string): Promise<StepRecord[]> {
    return on<StepRecord>('transfer_step').where({ transfer_id: id }).orderBy('position');
  }

  /**
   * Records that a step begins and that the one before it is done, with the progress and its event. One statement:
   * visitors who are held back may be waiting for it.
   */
  async beginStep(
    on: OnRecords,
    { id, site, onto_path }: Pick<TransferRecord, 'id' | 'site' | 'onto_path'>,
    step: { position: number; detailOfFormer: string | null; isFirst: boolean },
    progress: NonNullable<TransferRecord['progress']>,
    durability: Durability = 'forced',
  ): Promise<void> {
    const event: StreamEvent = { type: 'transfer', transfer: id, site, onto: onto_path, state: 'running', progress };
    await on.raw(
      `WITH former AS (UPDATE transfer_step SET state = 'done', ended_at = :now, detail = :detail
          WHERE transfer_id = :id AND position = :former),
        begun AS (UPDATE transfer_step SET state = 'running', started_at = :now
          WHERE transfer_id = :id AND position = :position),
        shown AS (UPDATE transfer SET progress = :progress::jsonb WHERE id = :id),
        told AS (INSERT INTO event (at, data) VALUES (clock_timestamp(), :event::jsonb) RETURNING id)
      SELECT pg_notify(:channel, id::text)${durability === 'soon' ? `, ${DURABLE_SOON}` : ''} FROM told`,
      {
        id,
        now: this.#now(),
        detail: step.detailOfFormer,
        former: step.isFirst ? -1 : step.position - 1,
        position: step.position,
        progress: json(progress),
        event: json(event),
        channel: EVENT_CHANNEL,
      },
    );
  }

  /** Records the steps that a transfer has, none of them begun. */
  async planSteps(on: OnRecords, id: string, steps: readonly Pick<StepRecord, 'name' | 'title'>[]): Promise<void> {
    await on('transfer_step').where({ transfer_id: id }).delete();
    await on('transfer_step').insert(
      steps.map(({ name, title }, position) => ({ transfer_id: id, position, name, title, state: 'coming' })),
    );
  }

  /** Records how one step ended. */
  async endStep(
    on: OnRecords,
    id: string,
    position: number,
    { state, detail }: { readonly state: 'done' | 'failed'; readonly detail: string | null },
  ): Promise<void> {
    await on('transfer_step').where({ transfer_id: id, position }).update({ state, ended_at: this.#now(), detail });
  }

  /** Records that whatever step runs has ended with the transfer. */
  async endRunningStep(on: OnRecords, id: string, state: 'done' | 'failed'): Promise<void> {
    await on('transfer_step').where({ transfer_id: id, state: 'running' }).update({ state, ended_at: this.#now() });
  }

  /** Adds a line to what is told of a transfer. */
  async say(on: OnRecords, id: string, text: string): Promise<void> {
    await on('transfer_log').insert({ transfer_id: id, at: this.#now(), text });
  }

  /** What was told of it, the first 500 lines. */
  async told(on: OnRecords, id: string): Promise<{ readonly at: Date; readonly text: string }[]> {
    return on('transfer_log').where({ transfer_id: id }).orderBy('id').limit(500).select('at', 'text');
  }

  /** Asks whoever runs a transfer to stop it. */
  async askToStop(on: OnRecords, id: string): Promise<void> {
    await on('transfer').where({ id, state: 'running' }).update({ stop_asked: true });
  }

  async isAskedToStop(on: OnRecords, id: string): Promise<boolean> {
    return (await on('transfer').where({ id }).first('stop_asked'))?.stop_asked === true;
  }

  /** Takes a transfer from a worker that has died; whoever claimed it meanwhile keeps it. */
  async orphan(on: OnRecords, id: string, worker: string | null): Promise<void> {
    await on('transfer').where({ id, worker }).update({ worker: null });
    await enqueue(on, 'transfer', id);
  }

  async placeInLine(on: OnRecords, transfer: TransferRecord): Promise<number | null> {
    if (transfer.state !== 'waiting') return null;
    const ahead = await on('transfer')
      .where({ onto_path: transfer.onto_path })
      .whereIn('state', ['waiting', 'running', 'stopping'])
      .whereRaw('(created_at, id) < (?, ?)', [transfer.created_at, transfer.id])
      .count<{ count: number }[]>('* as count');
    const count = Number(ahead[0]?.count ?? 0);
    return count === 0 ? null : count;
  }
}

/** The worker that has what a forecast found, so that nobody need compare again. */
async function keeperOf(on: OnRecords, forecast: string): Promise<number | undefined> {
  const found = (await on('forecast').where({ id: forecast }).first('kept_by')) as
    | { kept_by: number | null }
    | undefined;
  return found?.kept_by ?? undefined;
}

/** Kinds of transfers that can be taken back. */
export const UNDOABLE: readonly TransferKind[] = ['push', 'pull', 'restore'];

/** A transfer as the interface shows it. */
export function toTransfer(record: TransferRecord, placeInLine: number | null): Transfer {
  return {
    id: record.id,
    kind: record.kind,
    state: record.state,
    from: record.from_path,
    onto: record.onto_path,
    site: record.site,
    sentence: record.sentence,
    person: record.person,
    createdAt: record.created_at.toISOString(),
    startedAt: iso(record.started_at),
    endedAt: iso(record.ended_at),
    progress: record.progress,
    placeInLine,
    failure: record.failure && { ...record.failure, code: record.failure.code ?? 'unexpected' },
    undoOf: record.undo_of,
    request: record.request,
    urgent: record.urgent,
    override: record.override,
    undoneBy: record.undone_by,
    canUndo:
      record.state === 'done' &&
      UNDOABLE.includes(record.kind) &&
      record.outcome.changes === true &&
      record.undone_by === null,
    canStop: record.state === 'waiting' || (record.state === 'running' && record.outcome.pastSwitch !== true),
    acknowledged: record.acknowledged,
  };
}

/** @throws {ProblemError} `conflict` */
export function mustBeUndoable(record: TransferRecord): void {
  if (toTransfer(record, null).canUndo) return;
  throw new ProblemError(
    'conflict',
    record.undone_by === null
      ? `Transfer ${record.id} (${record.kind}, ${record.state}) cannot be undone.`
      : `Transfer ${record.id} was undone already.`,
    'Only pushes, pulls and restores onto live that are done and wrote something can be undone.',
  );
}
