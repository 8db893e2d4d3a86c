import { counted } from '@tessarion/core';
import { drawKeys, switchTrees } from '@tessarion/engine';
import { gatherFacts } from '../../forecasts/comparing.js';
import { gatherUndo } from '../../forecasts/undoing.js';
import { inputOf } from '../../transfers/inputs.js';
import { applyAlone } from '../change-set.js';
import { compareWithForecast, forecastOf } from '../compare-with-forecast.js';
import type { TransferContext } from '../context.js';
import { checkCopy, settleChecks } from '../copy-checks.js';
import { fillCopy, makeDatabases, makeFolderLike, NOTHING_LEFT_OUT, proveHarmless } from '../copying.js';
import { keepContents } from '../keep-contents.js';
import { changeSchema } from '../make-schema.js';
import type { Procedure } from '../procedure.js';
import { filesOf, recordChanges } from '../recorded-changes.js';
import { runTasks } from '../tasks.js';
import { settleIn } from './clone.js';
import { forward } from './push.js';
import { removeEverything } from './remove.js';

const WISHES = { leftOut: NOTHING_LEFT_OUT, acceptTraces: [], acceptPersonal: undefined };

async function ends(context: TransferContext) {
  const input = inputOf(context.record, 'preview');
  return {
    input,
    origin: { from: input.of },
    live: await context.environment(input.of),
    preview: await context.environment(context.record.onto_path),
  };
}

/**
 * Makes a copy of a request's destination and writes onto it what the request would: the rows have the destination's own
 * keys there, so that its changes are the very same. One that stands already is made anew under its address.
 */
export const preview: Procedure = {
  kind: 'preview',
  steps: [
    {
      name: 'check',
      title: 'Check room, versions and data classes',
      async run(context) {
        const { origin, live, preview } = await ends(context);
        return settleChecks(context, await checkCopy(context, live, preview, origin, WISHES));
      },
    },
    {
      name: 'reserve',
      title: 'Make its folder, databases and logins',
      async run(context) {
        const { live, preview } = await ends(context);
        const { installation } = context;
        const record = await context.environmentRecord(preview.path);
        await installation.environments.update(installation.records, preview.path, { status: 'making' });
        await context.publishRoutes();
        const server = await installation.servers.get(installation.records, record.server);
        await installation.servers.admin(server).drop(...preview.databases.map(({ login }) => login));
        await preview.server.remove(preview.folder);
        await context.raiseFence(preview);
        await makeFolderLike(live, preview);
        await makeDatabases(context, live, preview);
        return counted(preview.databases.length, 'database');
      },
    },
    {
      name: 'copy',
      title: 'Copy the destination as it is now',
      async run(context) {
        const { origin, live, preview } = await ends(context);
        const at = context.installation.now();
        const traces = await fillCopy(context, origin, live, preview, WISHES, false, false);
        await context.remember({ copiedAt: at.toISOString() });
        const proof = await proveHarmless(context, live, preview, traces, []);
        await switchTrees(preview, context.record.id, context.epoch);
        const { files, rows } = context.counts;
        return `${counted(files, 'file')}, ${counted(rows, 'row')}; ${proof}`;
      },
    },
    {
      name: 'write',
      title: 'Write what the request would',
      async run(context) {
        const { input, live, preview } = await ends(context);
        const source = await context.environment(input.from);
        const forecast = await forecastOf(context, input.forecast);
        const { installation } = context;
        const facts =
          input.undoes === null
            ? await gatherFacts(installation, { environment: source }, live, forecast)
            : await gatherUndo(
                installation,
                await installation.transfers.get(installation.records, input.undoes),
                live,
                forecast,
              );
        await compareWithForecast(context, forecast, facts, `tessarion request revise ${input.request}`);
        const plan = facts.plan(await drawKeys(preview, facts.keysToDraw));
        const library = context.library();
        await recordChanges(context, context.record.id, plan.changes);
        const files = await filesOf(context, context.record.id, (change) => change);
        await library.store.write((writer) => keepContents(context, source, files, 'after', writer));
        for (const change of facts.schemaChanges) await changeSchema(context, preview, change, change.statements);
        const set = { ...forward(context), mode: 'over' as const, treeId: `${context.record.id}-request` };
        return applyAlone(context, preview, set);
      },
    },
    {
      name: 'staged-tasks',
      title: 'Run its staged tasks',
      async run(context) {
        // It lies at no address yet: what its root leads to is what nobody sees.
        return runTasks(context, (await ends(context)).preview, ['staged']);
      },
    },
    {
      name: 'publish',
      title: 'Switch it on at its address',
      async run(context) {
        const { input, preview } = await ends(context);
        const { installation } = context;
        await context.checkFence(preview);
        await installation.environments.update(installation.records, preview.path, {
          status: 'ready',
          refreshed_at: new Date(context.noted('copiedAt')),
          preview: { request: input.request, revision: input.revision },
        });
        await context.publishRoutes();
        return undefined;
      },
    },
    {
      name: 'tasks',
      title: 'Measure it and run the profile’s tasks',
      async run(context) {
        return settleIn(context, (await ends(context)).preview);
      },
    },
  ],
  async mustGoForward(_context, step) {
    return step === 'publish' || step === 'tasks';
  },
  async putBack(context) {
    await removeEverything(context, context.record.onto_path);
    return [];
  },
};
