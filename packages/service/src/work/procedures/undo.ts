import { type FileChange, invert, type RowChange } from '@tessarion/core';
import { findBaseline, saveBaseline } from '../../records/snapshots.js';
import {
  type ChangeSet,
  commitRows,
  discardStaged,
  holdVisitors,
  releaseVisitors,
  removeOldTrees,
  stageChanges,
  switchFiles,
  wasCommitted,
} from '../change-set.js';
import type { PushFacts } from '../comparing.js';
import type { TransferContext } from '../context.js';
import type { Procedure } from '../procedure.js';
import { runTasks } from './clone.js';

const setOf = (context: TransferContext): ChangeSet => ({
  id: context.record.undo_of as string,
  row: (change) => invert(change) as RowChange,
  file: (change) => invert(change) as FileChange,
  mode: 'lenient',
  treeId: context.record.id,
});

const destinationOf = (context: TransferContext) => context.environment(context.record.onto_path);

/** Takes back a transfer's own changes; what others changed since stays, and is named. */
export const undo: Procedure = {
  kind: 'undo',
  steps: [
    {
      name: 'stage',
      title: 'Stage beside what is in use',
      run: async (context) => stageChanges(context, await destinationOf(context), setOf(context)),
    },
    {
      name: 'hold',
      title: 'Hold visitors for a moment',
      run: async (context) => holdVisitors(context, await destinationOf(context), setOf(context)),
    },
    {
      name: 'commit',
      title: 'Write the rows',
      async run(context) {
        const destination = await destinationOf(context);
        if (context.data.transactions !== undefined && (await wasCommitted(context, destination)))
          return 'already written';
        return commitRows(context, destination);
      },
    },
    {
      name: 'switch',
      title: 'Switch the files',
      run: async (context) => switchFiles(context, await destinationOf(context), setOf(context)),
    },
    {
      name: 'release',
      title: 'Let visitors through',
      run: async (context) => releaseVisitors(context, await destinationOf(context), setOf(context)),
    },
    {
      name: 'tasks',
      title: 'Run the profile’s tasks',
      run: async (context) => runTasks(context, context.record.onto_path, ['after']),
    },
    {
      name: 'record',
      title: 'Put the former baseline back',
      async run(context) {
        const { installation } = context;
        const undone = await installation.transfers.get(installation.records, context.record.undo_of as string);
        const former = undone.data.formerBaseline as PushFacts['baselineIds'];
        const pair = former && (await findBaseline(installation.records, former.lower, former.upper));
        // A copy that was made anew since has another baseline, which stays.
        if (former && pair && pair.lower_manifest === undone.data.advancedBaseline)
          await saveBaseline(installation.records, {
            ...pair,
            lower_manifest: former.lowerManifest,
            upper_manifest: former.upperManifest,
          });
        await installation.transfers.update(installation.records, undone.id, { state: 'undone' });
        await removeOldTrees(await destinationOf(context));
        return undefined;
      },
    },
  ],
  async mustGoForward(context, step) {
    if (['switch', 'release', 'tasks', 'record'].includes(step)) return true;
    return step === 'commit' && wasCommitted(context, await destinationOf(context));
  },
  async putBack(context) {
    if (context.data.pastSwitch === true) return ['The undo is done, but for its last steps.'];
    await discardStaged(context, await destinationOf(context), setOf(context));
    return [];
  },
};
