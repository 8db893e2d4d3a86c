import { counted, type FileChange, invert, type RowChange } from '@tessarion/core';
import { advanceImage, EngineError, type Environment, storeContents } from '@tessarion/engine';
import { newId } from '../../data-folder.js';
import { findBaseline, saveBaseline } from '../../records/snapshots.js';
import {
  applyChanges,
  type ChangeSet,
  discardStaged,
  filesOf,
  releaseVisitors,
  removeOldTrees,
} from '../change-set.js';
import { gatherPushFacts, type PushFacts } from '../comparing.js';
import type { TransferContext } from '../context.js';
import type { ForecastRecord } from '../forecasting.js';
import { checkHealth, judgeHealth, type PageHealth } from '../health.js';
import { measure } from '../measure.js';
import type { Procedure } from '../procedure.js';
import { deliveryGoesForward, deliverySteps, isDelivered } from './delivery.js';

export interface PushInput {
  /** Absent for a restore, which compares with the snapshot afresh. */
  readonly forecast?: string;
  readonly snapshot?: string;
  readonly from: string;
}

const RECORDED_ITEMS = 500;

const forward = (context: TransferContext): ChangeSet => ({
  id: context.record.id,
  row: (change) => change,
  file: (change) => change,
  mode: 'strict',
  treeId: context.record.id,
});
const backward = (context: TransferContext): ChangeSet => ({
  id: context.record.id,
  row: (change) => invert(change) as RowChange,
  file: (change) => invert(change) as FileChange,
  mode: 'lenient',
  treeId: `${context.record.id}-back`,
});

const destinationOf = (context: TransferContext): Promise<Environment> => context.environment(context.record.onto_path);

export const push: Procedure = {
  kind: 'push',
  steps: [
    {
      name: 'compare',
      title: 'Compare again with what was shown',
      async run(context) {
        const input = context.input<PushInput>();
        const destination = await destinationOf(context);
        const from = await context.environment(input.from);
        const facts = await gatherPushFacts(
          context.installation,
          input.snapshot === undefined
            ? { environment: from }
            : { snapshot: await context.library().load(input.snapshot), of: from },
          destination,
        );
        if (input.forecast !== undefined) await compareWithForecast(context, input.forecast, facts);
        const failed = facts.checks.find((check) => check.state === 'failed');
        await context.installation.transfers.update(context.installation.records, context.record.id, {
          checks: facts.checks,
        });
        if (failed)
          throw new EngineError('outdated', failed.message, failed.remedy ?? 'Look at the checks of this transfer.');
        await context.library().saveChanges(context.record.id, facts.changes);
        await recordItems(context, facts);
        await context.remember({
          changes: facts.changes.length > 0,
          formerBaseline: facts.baselineIds as unknown as Record<string, unknown>,
          health: await checkHealth(context, destination),
        });
        return `${counted(facts.collector.items.size, 'item')}${input.forecast === undefined ? '' : ', as forecast'}`;
      },
    },
    {
      name: 'safety',
      title: 'Keep what will be overwritten',
      async run(context) {
        const input = context.input<PushInput>();
        const files = await filesOf(context, context.record.id, (change) => change);
        const writer = await context.library().store.writer();
        try {
          await storeContents(await destinationOf(context), files, 'before', writer);
          if (input.snapshot === undefined)
            await storeContents(await context.environment(input.from), files, 'after', writer);
          await writer.close();
        } catch (error) {
          await writer.abandon();
          throw error;
        }
        return counted(files.length, 'file');
      },
    },
    ...deliverySteps(forward),
    {
      name: 'health',
      title: 'See that the site is well',
      async run(context) {
        return judgeHealth(
          (context.data.health as PageHealth[] | undefined) ?? [],
          await checkHealth(context, await destinationOf(context)),
        );
      },
    },
    {
      name: 'record',
      title: 'Remember what both have in common',
      async run(context) {
        const destination = await destinationOf(context);
        await advanceBaseline(context);
        await removeOldTrees(destination);
        const { installation } = context;
        await installation.environments.update(installation.records, destination.path, {
          size: await measure(destination),
        });
        const from = context.input<PushInput>().from;
        if (from !== destination.path)
          await installation.environments.update(installation.records, from, {
            drift: { up: 0, down: 0, at: installation.now().toISOString() },
          });
        return undefined;
      },
    },
  ],
  mustGoForward: deliveryGoesForward,
  async putBack(context) {
    const destination = await destinationOf(context);
    if (!(await isDelivered(context))) {
      await discardStaged(context, destination, forward(context));
      return [];
    }
    return takeBack(context, destination);
  },
};

/** A failed task or health check undoes the switch, keeping what visitors made meanwhile. */
async function takeBack(context: TransferContext, destination: Environment): Promise<string[]> {
  await context.say('The transfer failed after its switch; what it wrote is taken back.');
  await releaseVisitors(context, destination, forward(context));
  await applyChanges(context, destination, backward(context));
  return [];
}

async function compareWithForecast(context: TransferContext, id: string, facts: PushFacts): Promise<void> {
  const { records } = context.installation;
  const forecast = (await records<ForecastRecord>('forecast').where({ id }).first()) as ForecastRecord | undefined;
  if (!forecast?.result) throw new EngineError('outdated', 'The forecast is gone.', 'Make a new forecast.');
  if (forecast.result.fingerprint === facts.collector.fingerprint()) return;
  const shown = new Map(
    (
      (await records('forecast_item').where({ forecast_id: id }).select('item')) as {
        item: { id: string; hash: string; title: string; kind: string };
      }[]
    ).map(({ item }) => [item.id, item]),
  );
  const changed: string[] = [];
  for (const item of facts.collector.items.values())
    if (shown.get(item.id)?.hash !== item.hash) changed.push(`${item.kind} "${item.title}"`);
  for (const item of shown.values())
    if (!facts.collector.items.has(item.id)) changed.push(`${item.kind} "${item.title}"`);
  const named = changed.slice(0, 5).join(', ');
  throw new EngineError(
    'outdated',
    `The forecast is outdated; changed since: ${named}${changed.length > 5 ? ` and ${changed.length - 5} more` : ''}. Nothing was written.`,
    `Make a new one: tessarion forecast --from ${forecast.from_path} --onto ${forecast.onto_path}`,
  );
}

async function recordItems(context: TransferContext, facts: PushFacts): Promise<void> {
  const items = [...facts.collector.items.values()]
    .filter((item) => item.outcome === 'written')
    .slice(0, RECORDED_ITEMS);
  const detail = (item: (typeof items)[number]): string =>
    item.change === 'changed' ? item.fields.map((field) => field.name).join(', ') : '';
  await context.installation.transfers.update(context.installation.records, context.record.id, {
    written: facts.written,
    items: items.map((item) => ({ kind: item.kind, title: item.title, change: item.change, detail: detail(item) })),
  });
}

/** The baseline becomes the source's state for everything that was written, and stays for everything else. */
async function advanceBaseline(context: TransferContext): Promise<void> {
  const former = context.data.formerBaseline as PushFacts['baselineIds'];
  if (!former) return;
  const { installation } = context;
  const pair = await findBaseline(installation.records, former.lower, former.upper);
  if (!pair || pair.lower_manifest !== former.lowerManifest) return;
  const library = context.library();
  const rows: RowChange[] = [];
  const files: FileChange[] = [];
  for await (const change of library.readChanges(context.record.id)) {
    if (change.part === 'row') rows.push(change);
    else files.push(change);
  }
  const writer = await library.store.writer();
  const takenAt = installation.now().toISOString();
  try {
    const lower = await advanceImage(
      library,
      writer,
      await library.load(former.lowerManifest),
      newId('b'),
      takenAt,
      rows,
      files,
    );
    const upper = await advanceImage(
      library,
      writer,
      await library.load(former.upperManifest),
      newId('b'),
      takenAt,
      rows,
      files,
    );
    await writer.close();
    await library.save(lower);
    await library.save(upper);
    await context.remember({ advancedBaseline: lower.id });
    await saveBaseline(installation.records, {
      ...pair,
      lower_manifest: lower.id,
      upper_manifest: upper.id,
      created_at: installation.now(),
    });
  } catch (error) {
    await writer.abandon();
    throw error;
  }
}
