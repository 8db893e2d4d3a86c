import type { Knex } from 'knex';
import type { OnRecords } from './open.js';

/** What a worker is woken for, and by whose id. */
export interface Task {
  readonly task: 'transfer' | 'forecast' | 'pack';
  readonly id: string;
}

/** How often a job is tried, each time after a longer wait, before the queue gives it up. */
const MOST_TRIES = 5;

/**
 * Puts a job into the queue within the caller's transaction. The job only wakes a worker: one that is there already and
 * has not begun is put into its place, with all its tries anew.
 */
export async function enqueue(on: OnRecords, task: Task['task'], id: string): Promise<void> {
  await on.raw(
    `SELECT graphile_worker.add_job(:task, payload := json_build_object('id', :id::text), max_attempts := :most,
       job_key := :task::text || ':' || :id::text)`,
    { task, id, most: MOST_TRIES },
  );
}

/** How long a transfer waits for the worker that has what its forecast found. */
const OFFERED_SECONDS = 5;

const NOT_FOR = 'not-for-';

/** The flag of jobs that a worker leaves to others. */
export const notFor = (worker: number): string => `${NOT_FOR}${worker}`;

/**
 * Puts a transfer into the queue as {@link enqueue} does, for one worker alone; whatever becomes of that one, any worker is woken for it
 * a little later.
 *
 * @param worker its id; where no such worker is on record, anybody takes it
 */
export async function offer(on: OnRecords, id: string, worker: number): Promise<void> {
  await on.raw(
    `SELECT graphile_worker.add_job('transfer', payload := json_build_object('id', :id::text), max_attempts := :most,
         job_key := 'transfer:' || :id::text,
         flags := (SELECT array_agg(:flag || id) FROM worker
           WHERE id <> :worker AND EXISTS (SELECT FROM worker WHERE id = :worker))),
       graphile_worker.add_job('transfer', payload := json_build_object('id', :id::text), max_attempts := :most,
         job_key := 'transfer-late:' || :id::text, run_at := now() + make_interval(secs => :seconds))`,
    { id, worker, flag: NOT_FOR, most: MOST_TRIES, seconds: OFFERED_SECONDS },
  );
}

/**
 * Wakes those of the transfers that wait which may have their turn now: of those in line for one environment only the first,
 * however many wait behind it.
 *
 * @param among narrows down which lines are looked at
 */
export async function wakeFirst(on: OnRecords, among: (query: Knex.QueryBuilder) => void): Promise<void> {
  const first = on('transfer')
    .distinctOn('onto_path')
    .where({ state: 'waiting' })
    .andWhere(among)
    .orderBy([{ column: 'onto_path' }, { column: 'created_at' }, { column: 'id' }])
    .select('id');
  for (const { id } of (await first) as { id: string }[]) await enqueue(on, 'transfer', id);
}

/**
 * Work on record that no job will come to: the queue has given its job up, as after minutes in which the records broke
 * off again and again, or its job found that it was not its turn yet.
 *
 * @returns the oldest first
 */
export async function findUnqueued(on: OnRecords): Promise<Task[]> {
  const { rows } = await on.raw<{ rows: Task[] }>(
    `SELECT task, id FROM (
       (SELECT DISTINCT ON (onto_path) 'transfer' AS task, id, created_at FROM transfer WHERE state = 'waiting'
        ORDER BY onto_path, created_at, id)
       UNION ALL SELECT 'forecast', id, created_at FROM forecast WHERE state = 'computing'
       UNION ALL SELECT 'forecast', revising, created_at FROM change_request WHERE revising IS NOT NULL
       UNION ALL SELECT 'pack', spool ->> 'id', created_at FROM baseline WHERE spool IS NOT NULL
     ) AS wanted
     WHERE NOT EXISTS (SELECT FROM graphile_worker.jobs j WHERE j.key = task || ':' || wanted.id
       AND (j.locked_at IS NOT NULL OR j.attempts < j.max_attempts))
     ORDER BY created_at, id`,
  );
  return rows;
}
