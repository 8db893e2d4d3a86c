import { type ByteString, listTasks, type TaskPhase, toText } from '@tessarion/core';
import { EngineError, type Environment, layout } from '@tessarion/engine';
import type { TransferContext } from './context.js';

/** How long one may take; those for which visitors are held share what the hold is lengthened by. */
const TASK_SECONDS = 600;
/** Seconds that a task may take while writing on the site is held. */
export const HELD_TASK_SECONDS = 10;
/** Of what a task says, the end is on record. */
const SAID = 2000;

/** What a program said, as text that can be shown and kept: without what terminals or databases would take for signs. */
// biome-ignore lint/suspicious/noControlCharactersInRegex: they are what is taken out.
const shownText = (text: string): string => text.replaceAll(/[\0-\x08\x0b-\x1f\x7f]/g, '').trim();

/**
 * Runs the profile's tasks of some phases on an environment; a task that fails fails the step.
 *
 * @param chosen those that change the schema and were chosen
 * @param folder in which they work; the first root when it is left out
 * @returns their names
 * @throws {EngineError} `command-failed`
 */
export async function runTasks(
  context: TransferContext,
  environment: Environment,
  phases: readonly TaskPhase[],
  { chosen = [], folder }: { readonly chosen?: readonly string[]; readonly folder?: ByteString | undefined } = {},
): Promise<string | undefined> {
  const tasks = listTasks(environment.profile, { tasks: [...chosen] }).filter(
    (task) => task.runs && phases.includes(task.phase),
  );
  let left = HELD_TASK_SECONDS;
  for (const task of tasks) {
    const [program, ...args] = task.command as [string, ...string[]];
    const isHeld = task.phase === 'held' && phases.length === 1;
    const from = Date.now();
    const result = await environment.server.run(program, args, {
      environment: environment.folder,
      folder: folder ?? layout.rootLink(environment.folder, environment.place.roots[0]?.name ?? 'main'),
      hidden: [context.installation.folder.path],
      timeoutSeconds: isHeld ? Math.max(1, Math.floor(left)) : TASK_SECONDS,
    });
    left -= (Date.now() - from) / 1000;
    const said = [toText(result.output), result.errors].map(shownText).filter((text) => text !== '');
    await context.say(
      `Task ${task.name} ended with ${result.code}.${said.map((text) => `\n${text.slice(-SAID)}`).join('')}`,
    );
    if (result.code !== 0)
      throw new EngineError(
        'command-failed',
        `The task ${task.name} ended with ${result.code}: ${(said.at(-1) ?? '').slice(-300)}`,
        'Look at the task in the profile.',
      );
  }
  return tasks.length > 0 ? tasks.map((task) => task.name).join(', ') : undefined;
}
