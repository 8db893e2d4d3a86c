import * as fs from 'node:fs/promises';
import { counted } from '@tessarion/core';
import { type Environment, layout, switchTrees } from '@tessarion/engine';
import { type Inputs, inputOf } from '../../transfers/inputs.js';
import type { TransferContext } from '../context.js';
import { checkCopy, settleChecks } from '../copy-checks.js';
import {
  type CopyWishes,
  fillCopy,
  makeDatabases,
  makeFolderLike,
  NOTHING_LEFT_OUT,
  proveHarmless,
  rememberBaseline,
} from '../copying.js';
import { deriveBaselines } from '../derive-baselines.js';
import { measure } from '../measure.js';
import type { Procedure } from '../procedure.js';
import { runTasks } from '../tasks.js';
import { removeEverything } from './remove.js';

const wishesOf = (input: Inputs['clone']): CopyWishes => ({
  leftOut: input.leftOut ?? NOTHING_LEFT_OUT,
  acceptTraces: input.acceptTraces ?? [],
  acceptPersonal: input.acceptPersonal,
});

async function ends(context: TransferContext) {
  const input = inputOf(context.record, 'clone');
  return {
    input,
    wishes: wishesOf(input),
    source: await context.environment(input.source),
    destination: await context.environment(context.record.onto_path),
  };
}

/** Makes an environment as another one is, or was when a snapshot was taken. */
export const clone: Procedure = {
  kind: 'clone',
  steps: [
    {
      name: 'check',
      title: 'Check room, versions and data classes',
      async run(context) {
        const { input, wishes, source, destination } = await ends(context);
        return settleChecks(context, await checkCopy(context, source, destination, input.origin, wishes));
      },
    },
    {
      name: 'reserve',
      title: 'Make its folder, databases and logins',
      async run(context) {
        const { source, destination } = await ends(context);
        await context.raiseFence(destination);
        await makeFolderLike(source, destination);
        await makeDatabases(context, source, destination);
        return counted(destination.databases.length, 'database');
      },
    },
    {
      name: 'copy',
      title: 'Copy rows and files',
      async run(context) {
        const { input, wishes, source, destination } = await ends(context);
        const traces = await fillCopy(context, input.origin, source, destination, wishes, false);
        const proof = await proveHarmless(context, source, destination, traces, wishes.acceptTraces);
        const { files, rows } = context.counts;
        return `${counted(files, 'file')}, ${counted(rows, 'row')}; ${proof}`;
      },
    },
    {
      name: 'staged-tasks',
      title: 'Run its staged tasks',
      async run(context) {
        const { destination } = await ends(context);
        return runStagedTasks(context, destination, context.record.id);
      },
    },
    {
      name: 'publish',
      title: 'Switch it on at its address',
      async run(context) {
        const { input, wishes, source, destination } = await ends(context);
        await context.checkFence(destination);
        await context.remember({ pastSwitch: true });
        await switchTrees(destination, context.record.id, context.epoch);
        await rememberBaseline(context, source, destination, input.origin, wishes.leftOut);
        const { installation } = context;
        await installation.environments.update(installation.records, destination.path, {
          status: 'ready',
          refreshed_at: installation.now(),
          drift: { up: 0, down: 0, at: installation.now().toISOString() },
        });
        await context.publishRoutes();
        return undefined;
      },
    },
    {
      name: 'tasks',
      title: 'Measure it and run the profile’s tasks',
      async run(context) {
        const { input, source, wishes, destination } = await ends(context);
        // A snapshot is older than what its environment has in common with others.
        if ('from' in input.origin) await deriveBaselines(context, source, destination, wishes.leftOut);
        return settleIn(context, destination);
      },
    },
  ],
  async mustGoForward(_context, step) {
    return step === 'publish' || step === 'tasks';
  },
  async putBack(context) {
    await fs.rm(context.spoolFolder, { recursive: true, force: true });
    await removeEverything(context, context.record.onto_path);
    return [];
  },
};

/** What every new copy ends with: statistics, its size, and the profile's tasks; nobody is held there yet. */
export async function settleIn(context: TransferContext, copy: Environment): Promise<string | undefined> {
  const { installation } = context;
  for (const { login, system } of copy.databases) await system.refreshStatistics(login);
  await installation.environments.update(installation.records, copy.path, { size: await measure(copy) });
  return runTasks(context, copy, ['held', 'after']);
}

/** Runs what the profile says is to run in a new tree before it is in use. */
export async function runStagedTasks(
  context: TransferContext,
  environment: Environment,
  treeId: string,
): Promise<string | undefined> {
  const { server, folder, place } = environment;
  const ran = await runTasks(context, environment, ['staged'], {
    folder: layout.tree(folder, place.roots[0]?.name ?? 'main', treeId),
  });
  if (ran !== undefined) await server.flush(folder);
  return ran;
}
