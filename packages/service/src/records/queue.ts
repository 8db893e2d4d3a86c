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

/**
 * Work on record that no job will come to: the queue has given its job up, as after minutes in which the records broke
 * off again and again, or its job found that it was not its turn yet.
 *
 * @returns the oldest first
 */
export async function findUnqueued(on: OnRecords): Promise<Task[]> {
  const { rows } = await on.raw<{ rows: Task[] }>(
    `SELECT task, id FROM (
       SELECT 'transfer' AS task, id, created_at FROM transfer WHERE state = 'waiting'
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
