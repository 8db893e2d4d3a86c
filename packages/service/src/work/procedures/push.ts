import { counted, type FileChange, invert, type RowChange } from '@tessarion/core';
import { collectedRows, drawKeys, EngineError, type Environment } from '@tessarion/engine';
import { gatherFacts } from '../../forecasts/comparing.js';
import { aboveOf } from '../../forecasts/drift.js';
import { staysAsItIs } from '../../forecasts/gathering.js';
import { keptFacts } from '../../forecasts/kept-facts.js';
import { NO_WISHES, type TransferFacts, type TransferWish } from '../../forecasts/transfer-facts.js';
import { gatherUndo } from '../../forecasts/undoing.js';
import { checkHealth, judgeHealth } from '../../front/health.js';
import { notHeld } from '../../front/held.js';
import { failureOf } from '../../ground/problems.js';
import { pushInput } from '../../transfers/inputs.js';
import { recordWhence } from '../../transfers/transfer-items.js';
import { advanceBaseline, imageChanges } from '../advance-baseline.js';
import { applyBack, discardStaged, releaseVisitors, writtenByTasks } from '../change-set.js';
import { compareWithForecast, forecastOf } from '../compare-with-forecast.js';
import type { TransferContext } from '../context.js';
import { keepContents } from '../keep-contents.js';
import { changeSchema, madeSchema, revertSchema, schemaChangesOf } from '../make-schema.js';
import { measure, sizeAfter } from '../measure.js';
import { noteOwnSettings } from '../own-settings.js';
import type { Procedure } from '../procedure.js';
import { prove } from '../proof.js';
import { putBaselineBack } from '../put-baseline-back.js';
import { type ChangeSet, filesOf, recordChanges } from '../recorded-changes.js';
import { deliveryGoesForward, deliverySteps, isDelivered, mustStillBeOpen } from './delivery.js';

const RECORDED_ITEMS = 500;

/** What a transfer compared, to be written as it is. */
export const forward = (context: TransferContext): ChangeSet => ({
  id: context.record.id,
  row: (change) => change,
  file: (change) => change,
  mode: 'strict',
  undoes: false,
  treeId: context.record.id,
});
const backward = (context: TransferContext): ChangeSet => ({
  id: context.record.id,
  row: (change) => invert(change) as RowChange,
  file: (change) => invert(change) as FileChange,
  mode: 'lenient',
  undoes: true,
  treeId: `${context.record.id}-back`,
  ...writtenByTasks(context),
});

const destinationOf = (context: TransferContext): Promise<Environment> => context.environment(context.record.onto_path);

/** Writes what one environment changed onto another; pulls and restores do so too. */
export const push: Procedure = {
  kind: 'push',
  steps: [
    {
      name: 'compare',
      title: 'Compare again with what was shown',
      async run(context) {
        await mustStillBeOpen(context);
        const input = pushInput(context.record);
        await noteOwnSettings(context, context.record.onto_path);
        const destination = await destinationOf(context);
        const forecast = await forecastOf(context, input.forecast);
        const former = keptFacts(context.installation).take(forecast.id);
        const facts = await factsOf(context, destination, forecast, former);
        await compareWithForecast(context, forecast, facts);
        const failed = facts.checks.find((check) => check.state === 'failed');
        await context.installation.transfers.update(context.installation.records, context.record.id, {
          checks: facts.checks,
        });
        if (failed)
          throw new EngineError('outdated', failed.message, failed.remedy ?? 'Look at the checks of this transfer.');
        const plan = facts.plan(await drawKeys(destination, facts.keysToDraw));
        const isOneImage = plan.source === plan.destination;
        const own = { id: context.record.id, outcome: { isOneImage } };
        const save = async (): Promise<void> => {
          await recordChanges(context, own.id, plan.changes);
          await recordChanges(context, imageChanges(own, 'source'), plan.source);
          if (!isOneImage) await recordChanges(context, imageChanges(own, 'destination'), plan.destination);
        };
        recordMeanwhile(context, recordItems(context, facts, plan.namesThere));
        await save();
        if (context.record.kind === 'undo') await rememberKept(context, facts);
        await context.remember({
          isOneImage,
          notHeld: notHeld(forecast.result?.checks ?? []),
          changes: plan.changes.length + facts.schemaChanges.length > 0,
          // Downward they are the source's.
          collected: facts.direction === 'up' ? await collectedRows(destination) : [],
          editedTables: [...facts.editedTables],
          pairs: [...plan.pairs],
          formerBaseline: facts.baselineIds,
          schemaChanges: facts.schemaChanges,
          reshaped: facts.reshaped,
          decided: [...facts.decided],
          chosenTasks: forecast.wishes.tasks ?? [],
          health: await checkHealth(context.installation, destination),
        });
        const how = facts === former ? 'as forecast: nothing was written since' : 'as forecast';
        return `${counted(facts.collector.items.size, 'item')}, ${how}`;
      },
    },
    {
      name: 'safety',
      title: 'Keep what will be overwritten',
      async run(context) {
        const input = pushInput(context.record);
        const files = await filesOf(context, context.record.id, (change) => change);
        await context.library().store.write(async (writer) => {
          await keepContents(context, await destinationOf(context), files, 'before', writer);
          // What an undo brings back was kept when it was overwritten.
          if (input.snapshot === undefined && context.record.kind !== 'undo')
            await keepContents(context, await context.environment(input.from), files, 'after', writer);
        });
        await itemsRecorded.get(context);
        return counted(files.length, 'file');
      },
    },
    {
      name: 'schema',
      title: 'Make new columns, tables and indexes',
      async run(context) {
        const changes = schemaChangesOf(context);
        const destination = await destinationOf(context);
        if (changes.length > 0) await context.raiseFence(destination);
        for (const change of changes) {
          await context.checkFence(destination);
          await context.remember({ madeSchema: [...madeSchema(context), change.id] });
          await changeSchema(context, destination, change, change.statements);
        }
        return changes.length === 0 ? undefined : changes.map((one) => one.id.slice('schema:'.length)).join(', ');
      },
    },
    ...deliverySteps(forward),
    {
      name: 'health',
      title: 'See that the site is well',
      async run(context) {
        return judgeHealth(
          context.data.health ?? [],
          await checkHealth(context.installation, await destinationOf(context)),
        );
      },
    },
    {
      name: 'proof',
      title: 'Read again what was written',
      async run(context) {
        const destination = await destinationOf(context);
        const proof = await prove(context, destination, await checkHealth(context.installation, destination)).catch(
          (error: unknown) => {
            if (context.work.signal.aborted) throw error;
            const { message, next } = failureOf(error);
            return [
              {
                name: 'proof',
                state: 'failed' as const,
                message: `It could not be read again: ${message}`,
                remedy: next,
              },
            ];
          },
        );
        const { installation, record } = context;
        await installation.transfers.update(installation.records, record.id, { proof });
        const held = proof.filter((point) => point.state === 'passed').length;
        return `${held} of ${counted(proof.length, 'point')} hold`;
      },
    },
    {
      name: 'record',
      title: 'Remember what both have in common',
      async run(context) {
        const destination = await destinationOf(context);
        if (context.record.kind === 'undo') await noteUndone(context);
        else await advanceBaseline(context);
        const { environments, records } = context.installation;
        const files = await filesOf(context, context.record.id, (change) => change);
        const { size } = await environments.get(records, destination.path);
        await environments.update(records, destination.path, {
          size: await measure(destination, size ? sizeAfter(size, files) : undefined),
        });
        await lookAgain(context);
        return undefined;
      },
    },
  ],
  mustGoForward: deliveryGoesForward,
  async putBack(context) {
    const destination = await destinationOf(context);
    if (!(await isDelivered(context))) {
      await discardStaged(context, destination, forward(context));
      return revertSchema(context, destination);
    }
    return takeBack(context, destination);
  },
};

/** @param former what the forecast found, where it is still known: nothing is compared again where nothing was written since */
async function factsOf(
  context: TransferContext,
  destination: Environment,
  wish: TransferWish,
  former: TransferFacts | undefined,
): Promise<TransferFacts> {
  const { installation, record } = context;
  if (record.undo_of !== null)
    return gatherUndo(
      installation,
      await installation.transfers.get(installation.records, record.undo_of),
      destination,
      wish,
    );
  const { from: path, snapshot } = pushInput(context.record);
  const from = await context.environment(path);
  const source =
    snapshot === undefined ? { environment: from } : { snapshot: await context.library().load(snapshot), of: from };
  return gatherFacts(installation, source, destination, wish, former);
}

/** Puts back what both had in common. */
async function noteUndone(context: TransferContext): Promise<void> {
  const { records, environments, transfers } = context.installation;
  const undone = await transfers.get(records, context.record.undo_of as string);
  await putBaselineBack(context, undone);
  for (const path of [undone.from_path, undone.onto_path])
    if (path !== null && (await environments.find(records, path)))
      await environments.update(records, path, { looked_at: null });
}

/** A failed task or health check undoes the switch, keeping what visitors made meanwhile. */
async function takeBack(context: TransferContext, destination: Environment): Promise<string[]> {
  await context.say('The transfer failed after its switch; what it wrote is taken back.');
  await releaseVisitors(context, destination, forward(context));
  await applyBack(context, destination, backward(context));
  // By now somebody may use what was made.
  return madeSchema(context).map((id) => `${id.slice('schema:'.length)} was made, and stays.`);
}

/** Items of transfers that this worker is recording. */
const itemsRecorded = new WeakMap<TransferContext, Promise<void>>();

/** Lets what a transfer writes be recorded while it goes on; whoever takes over from a worker that ends over it begins anew. */
function recordMeanwhile(context: TransferContext, recorded: Promise<void>): void {
  itemsRecorded.set(context, recorded);
  // Told by the step that waits for it.
  recorded.catch(() => undefined);
}

async function recordItems(
  context: TransferContext,
  facts: TransferFacts,
  namesThere: ReadonlyMap<string, string>,
): Promise<void> {
  const written = [...facts.collector.items.values()].filter((item) => item.outcome === 'written');
  await recordWhence(context.installation.records, context.record, written, namesThere);
  const items = written.slice(0, RECORDED_ITEMS);
  const detail = (item: (typeof items)[number]): string =>
    item.change === 'changed' ? item.fields.map((field) => field.name).join(', ') : '';
  await context.installation.transfers.update(context.installation.records, context.record.id, {
    written: facts.written,
    items: items.map((item) => ({ kind: item.kind, title: item.title, change: item.change, detail: detail(item) })),
  });
}

/** What an undo does not take back, because others changed it since or somebody chose so. */
async function rememberKept(context: TransferContext, { collector }: TransferFacts): Promise<void> {
  const items = [...collector.items.values()];
  const remains = items.filter(staysAsItIs).map(({ kind, title, reason, collisions }) => {
    const fields = collisions.flatMap(({ field }) => (field === null ? [] : [field]));
    return `${kind} "${title}": ${reason === '' ? `changed since (${fields.join(', ')}).` : reason}`;
  });
  await context.remember({ remains, leavesSome: items.some((item) => item.outcome === 'left-out') });
}

/** What waits and what is news has changed by this transfer; the next round finds out what is left. */
async function lookAgain(context: TransferContext): Promise<void> {
  const { installation, record } = context;
  const { environments, records } = installation;
  const from = pushInput(context.record).from;
  if (from === record.onto_path) return;
  if (record.kind === 'pull')
    await environments.update(records, record.onto_path, { refreshed_at: installation.now() });
  const lower = record.kind === 'pull' ? record.onto_path : from;
  const { only, except } = record.forecast === null ? NO_WISHES : (await forecastOf(context, record.forecast)).wishes;
  const isWhole = record.kind === 'push' && only.length === 0 && except.length === 0;
  const former = await environments.find(records, lower);
  // What is gone since waits for nothing.
  if (!former) return;
  const above = isWhole ? await aboveOf(records, environments, former) : undefined;
  if (above?.path !== record.onto_path) return environments.update(records, lower, { looked_at: null });
  const drift = { up: 0, down: former.drift?.down ?? 0, at: installation.now().toISOString() };
  await environments.update(records, lower, { drift });
}
