import * as fs from 'node:fs/promises';
import { type Environment, layout, switchTrees, treeInUse } from '@tessarion/engine';
import type { EnvironmentRecord } from '../../fleet/environments.js';
import { toEngine } from '../../fleet/environments.js';
import { copyDatabases, originOf } from '../../fleet/new-copy.js';
import { resolveSettings } from '../../fleet/settings.js';
import { forgetBaselines } from '../../stored/forget-baselines.js';
import type { TransferData } from '../../transfers/data.js';
import { type ResetInput, resetInput } from '../../transfers/inputs.js';
import type { TransferContext } from '../context.js';
import { checkCopy, settleChecks } from '../copy-checks.js';
import {
  type CopyWishes,
  fillCopy,
  makeDatabases,
  NOTHING_LEFT_OUT,
  proveHarmless,
  rememberBaseline,
} from '../copying.js';
import { deriveBaselines } from '../derive-baselines.js';
import { noteOwnSettings, ownValues } from '../own-settings.js';
import type { Procedure } from '../procedure.js';
import { runStagedTasks, settleIn } from './clone.js';

type Prepared = NonNullable<TransferData['prepared']>;

/** The copy as it will be: new databases and trees beside those in use. */
async function prepared(
  context: TransferContext,
): Promise<{ source: Environment; destination: Environment; input: ResetInput; wishes: CopyWishes; facts: Prepared }> {
  const input = resetInput(context.record);
  const record = await context.environmentRecord(context.record.onto_path);
  const facts = context.noted('prepared');
  const profile = await context.profile(record.site);
  return {
    input,
    facts,
    wishes: {
      leftOut: NOTHING_LEFT_OUT,
      acceptTraces: input.acceptTraces ?? [],
      acceptPersonal: input.acceptPersonal,
    },
    source: await context.environment(input.source),
    destination: toEngine({ ...record, databases: facts.databases, settings: facts.settings }, profile),
  };
}

/** What a copy is made of from now on. */
async function madeOf(
  { installation: { environments, records }, record }: TransferContext,
  { origin, source }: ResetInput,
): Promise<Pick<EnvironmentRecord, 'made_from' | 'foreign_origin'>> {
  const from = await environments.get(records, source);
  return {
    made_from: 'snapshot' in origin ? `${source} (snapshot ${origin.snapshot})` : source,
    foreign_origin: originOf(from, record.site),
  };
}

/** Makes a copy anew beside itself and switches over; until then it stays as it was. */
export const reset: Procedure = {
  kind: 'reset',
  steps: [
    {
      name: 'check',
      title: 'Check room, versions and data classes',
      async run(context) {
        const { installation, record } = context;
        await noteOwnSettings(context, record.onto_path);
        const own = await context.environmentRecord(record.onto_path);
        const server = await installation.servers.get(installation.records, own.server);
        const environment = await context.environment(record.onto_path);
        const databases = copyDatabases(own.site, own.name, own.databases, server);
        const { values } = resolveSettings(
          environment.profile,
          { kind: own.kind, addresses: own.addresses, roots: own.roots, databases },
          ownValues(environment, own.settings),
        );
        const trees = await Promise.all(own.roots.map((root) => treeInUse(environment, root.name)));
        await context.remember({
          prepared: {
            databases,
            settings: values,
            former: { databases: [...own.databases], trees },
          },
        });
        const { input, source, destination, wishes } = await prepared(context);
        return settleChecks(context, await checkCopy(context, source, destination, input.origin, wishes));
      },
    },
    {
      name: 'reserve',
      title: 'Make fresh databases beside those in use',
      async run(context) {
        const { source, destination } = await prepared(context);
        await context.raiseFence(destination);
        await makeDatabases(context, source, destination);
        return undefined;
      },
    },
    {
      name: 'copy',
      title: 'Copy rows and files',
      async run(context) {
        const { input, source, destination, wishes } = await prepared(context);
        const traces = await fillCopy(context, input.origin, source, destination, wishes, input.exact);
        if (!input.exact) return proveHarmless(context, source, destination, traces, wishes.acceptTraces);
        return undefined;
      },
    },
    {
      name: 'staged-tasks',
      title: 'Run its staged tasks',
      async run(context) {
        const { destination } = await prepared(context);
        return runStagedTasks(context, destination, context.record.id);
      },
    },
    {
      name: 'switch',
      title: 'Switch to the new state',
      async run(context) {
        const { input, source, destination, facts } = await prepared(context);
        const { installation, record } = context;
        const { lease } = await installation.front.hold(destination.path, 10_000, 2000);
        try {
          await context.checkFence(destination);
          await context.remember({ pastSwitch: true });
          await switchTrees(destination, record.id, context.epoch);
          await installation.environments.update(installation.records, destination.path, {
            databases: facts.databases,
            settings: facts.settings,
            refreshed_at: installation.now(),
            ...(input.exact
              ? { drift: null, looked_at: null }
              : { ...(await madeOf(context, input)), drift: { up: 0, down: 0, at: installation.now().toISOString() } }),
          });
          await forgetBaselines(installation, destination.path, input.exact ? undefined : source.path);
          await rememberBaseline(context, source, destination, input.origin, NOTHING_LEFT_OUT);
        } finally {
          await installation.front.release(lease);
        }
        await context.publishRoutes();
        return undefined;
      },
    },
    {
      name: 'clear',
      title: 'Remove the former state',
      async run(context) {
        const { input, source, destination, facts } = await prepared(context);
        if ('from' in input.origin) await deriveBaselines(context, source, destination, NOTHING_LEFT_OUT);
        const { installation } = context;
        const own = await context.environmentRecord(destination.path);
        const admin = installation.servers.admin(await installation.servers.get(installation.records, own.server));
        await admin.drop(...facts.former.databases);
        for (const tree of facts.former.trees)
          if (tree.startsWith(layout.trees(destination.folder))) await destination.server.remove(tree);
        return settleIn(context, destination);
      },
    },
  ],
  async mustGoForward(context, step) {
    return step === 'clear' || (step === 'switch' && context.data.pastSwitch === true);
  },
  async putBack(context) {
    if (context.data.prepared === undefined) return [];
    if (context.data.pastSwitch === true)
      return ['The copy is already in its new state; parts of the former one may be left.'];
    const { destination } = await prepared(context);
    const { installation } = context;
    const own = await context.environmentRecord(destination.path);
    const admin = installation.servers.admin(await installation.servers.get(installation.records, own.server));
    await admin.drop(...destination.databases.map(({ login }) => login));
    for (const root of destination.place.roots)
      await destination.server.remove(layout.tree(destination.folder, root.name, context.record.id));
    await fs.rm(context.spoolFolder, { recursive: true, force: true });
    return [];
  },
};
