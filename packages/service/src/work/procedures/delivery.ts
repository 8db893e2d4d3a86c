import { mustBeOpen } from '../../requests/deliver.js';
import { holdVisitors, releaseVisitors, stageChanges, switchFiles, writeRows } from '../change-set.js';
import type { TransferContext } from '../context.js';
import type { ProcedureStep } from '../procedure.js';
import type { ChangeSet } from '../recorded-changes.js';
import { committedDatabases } from '../recovery.js';
import { runTasks } from './clone.js';

/** The steps by which a change set reaches an environment that people use, from staging to the tasks after it. */
export function deliverySteps(setOf: (context: TransferContext) => ChangeSet): ProcedureStep[] {
  const onto = (context: TransferContext) => context.environment(context.record.onto_path);
  return [
    {
      name: 'stage',
      title: 'Stage beside what is in use',
      run: async (context) => stageChanges(context, await onto(context), setOf(context)),
    },
    {
      name: 'hold',
      title: 'Hold visitors for a moment',
      async run(context) {
        await mustStillBeOpen(context);
        return holdVisitors(context, await onto(context), setOf(context));
      },
    },
    {
      name: 'commit',
      title: 'Write the rows',
      run: async (context) => writeRows(context, await onto(context), setOf(context)),
    },
    {
      name: 'switch',
      title: 'Switch the files',
      run: async (context) => switchFiles(context, await onto(context), setOf(context)),
    },
    {
      name: 'release',
      title: 'Let visitors through',
      run: async (context) => releaseVisitors(context, await onto(context), setOf(context)),
    },
    {
      name: 'tasks',
      title: 'Run the profile’s tasks',
      run: async (context) => runTasks(context, context.record.onto_path, ['after']),
    },
  ];
}

/**
 * Sees that live may be written to now: a transfer may have waited in line until its window was over, or a freeze may
 * have come. Asked before anything is compared, and again before anything can be seen.
 *
 * @throws {ProblemError} `closed`
 */
export function mustStillBeOpen({ record, installation }: TransferContext): Promise<void> {
  return mustBeOpen(installation.records, record, installation.now());
}

const BEFORE_COMMIT: ReadonlySet<string> = new Set(['compare', 'safety', 'schema', 'stage', 'hold']);

/** From the commit on a delivery goes forward; a commit that did not happen in any database is put back. */
export async function deliveryGoesForward(context: TransferContext, step: string): Promise<boolean> {
  if (BEFORE_COMMIT.has(step)) return false;
  if (step !== 'commit') return true;
  const environment = await context.environment(context.record.onto_path);
  return (await committedDatabases(context, environment)).size > 0;
}

/** Whether anything of a delivery can be seen: then it is taken back, and not just discarded. */
export async function isDelivered(context: TransferContext): Promise<boolean> {
  if (context.data.pastSwitch === true) return true;
  const environment = await context.environment(context.record.onto_path);
  return (await committedDatabases(context, environment)).size > 0;
}
