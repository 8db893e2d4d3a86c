import type { Profile, TaskRule } from '../profile/schema.js';
import type { Check, ListedTask, TransferWishes } from './shapes.js';
/** When a task runs: in the new tree before anybody sees it, while visitors are held, and when they are through again. */
export type TaskPhase = TaskRule['phase'];

/** What a profile runs with a transfer, in the order in which it runs. */
export function listTasks(profile: Profile | undefined, { tasks = [] }: Pick<TransferWishes, 'tasks'>): ListedTask[] {
  return PHASES.flatMap((phase) =>
    (profile?.tasks ?? [])
      .filter((task) => task.phase === phase)
      .map((task) => {
        const changesSchema = task['changes-schema'] === true;
        const runs = !changesSchema || tasks.includes(task.name);
        return { name: task.name, phase, command: task.command, changesSchema, runs };
      }),
  );
}

/** Chosen tasks that there is nothing to choose about. */
export function tasksCheck(listed: ListedTask[], { tasks = [] }: Pick<TransferWishes, 'tasks'>): Check[] {
  const unknown = tasks.filter((name) => !listed.some((one) => one.name === name && one.changesSchema));
  if (unknown.length === 0) return [];
  const choice = listed.filter((one) => one.changesSchema).map((one) => one.name);
  return [
    {
      name: 'tasks',
      state: 'failed',
      message: `The profile has no task ${unknown.join(', ')} that changes the schema; all others run by themselves.`,
      remedy: choice.length === 0 ? 'Take the choice back.' : `Choose among these: ${choice.join(', ')}.`,
    },
  ];
}

const PHASES: readonly TaskPhase[] = ['staged', 'held', 'after'];
