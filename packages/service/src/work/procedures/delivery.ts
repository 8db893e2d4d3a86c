import { listTasks, type TaskPhase } from '@tessarion/core';
import type { Environment } from '@tessarion/engine';
import { mustBeOpen } from '../../plans/must-be-open.js';
import {
  holdVisitors,
  noteTaskFiles,
  releaseVisitors,
  stageChanges,
  stagedTreeOf,
  switchFiles,
  writeRows,
} from '../change-set.js';
import type { TransferContext } from '../context.js';
import type { ProcedureStep } from '../procedure.js';
import type { ChangeSet } from '../recorded-changes.js';
import { committedDatabases } from '../recovery.js';
import { HELD_TASK_SECONDS, runTasks } from '../tasks.js';

/** The steps by which a change set reaches an environment that people use, from staging to the tasks after it. */
export function deliverySteps(setOf: (context: TransferContext) => ChangeSet): ProcedureStep[] {
  const onto = (context: TransferContext) => context.environment(context.record.onto_path);
  return [
    {
      name: 'stage',
      title: 'Stage beside what is in use',
      async run(context) {
        const environment = await onto(context);
        return stageChanges(context, environment, setOf(context), {
          ownFiles: runsAny(context, environment, 'staged'),
        });
      },
    },
    {
      name: 'staged-tasks',
      title: 'Run its staged tasks',
      async run(context) {
        const environment = await onto(context);
        if (!runsAny(context, environment, 'staged')) return undefined;
        const folder = stagedTreeOf(context, environment, setOf(context));
        if (folder === undefined) return 'no file changes, so that nothing is staged';
        const ran = await runTasks(context, environment, ['staged'], { chosen: chosenTasks(context), folder });
        await noteTaskFiles(context, environment, setOf(context));
        // What the root will lead to is on the disk before it does.
        await environment.server.flush(environment.folder);
        return ran;
      },
    },
    {
      name: 'hold',
      title: 'Hold visitors for a moment',
      async run(context) {
        await mustStillBeOpen(context);
        const environment = await onto(context);
        const more = runsAny(context, environment, 'held') ? HELD_TASK_SECONDS * 1000 : 0;
        return holdVisitors(context, environment, setOf(context), more);
      },
    },
    {
      name: 'commit',
      title: 'Write the rows',
      isHeld: true,
      run: async (context) => writeRows(context, await onto(context), setOf(context)),
    },
    {
      name: 'switch',
      title: 'Switch the files',
      isHeld: true,
      run: async (context) => switchFiles(context, await onto(context), setOf(context)),
    },
    {
      name: 'held-tasks',
      title: 'Run its held tasks',
      isHeld: true,
      run: async (context) => runTasks(context, await onto(context), ['held'], { chosen: chosenTasks(context) }),
    },
    {
      name: 'release',
      title: 'Let visitors through',
      isHeld: true,
      run: async (context) => releaseVisitors(context, await onto(context), setOf(context)),
    },
    {
      name: 'tasks',
      title: 'Run the profile’s tasks',
      run: async (context) => runTasks(context, await onto(context), ['after'], { chosen: chosenTasks(context) }),
    },
  ];
}

const chosenTasks = (context: TransferContext): readonly string[] => context.data.chosenTasks ?? [];

const runsAny = (context: TransferContext, { profile }: Environment, phase: TaskPhase): boolean =>
  listTasks(profile, { tasks: chosenTasks(context) }).some((task) => task.runs && task.phase === phase);

/**
 * Sees that live may be written to now: a transfer may have waited in line until its window was over, or a freeze may
 * have come. Asked before anything is compared, and again before anything can be seen.
 *
 * @throws {ProblemError} `closed`
 */
export function mustStillBeOpen({ record, installation }: TransferContext): Promise<void> {
  return mustBeOpen(installation.records, record, installation.now());
}

const BEFORE_COMMIT: ReadonlySet<string> = new Set(['compare', 'safety', 'schema', 'stage', 'staged-tasks', 'hold']);

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
