import { type FileChange, invert, type RowChange } from '@tessarion/core';
import { findBaseline, saveBaseline } from '../../records/snapshots.js';
import { type ChangeSet, discardStaged, removeOldTrees } from '../change-set.js';
import type { TransferFacts } from '../comparing.js';
import type { TransferContext } from '../context.js';
import type { Procedure } from '../procedure.js';
import { deliveryGoesForward, deliverySteps, isDelivered } from './delivery.js';

const setOf = (context: TransferContext): ChangeSet => ({
  id: context.record.undo_of as string,
  row: (change) => invert(change) as RowChange,
  file: (change) => invert(change) as FileChange,
  mode: 'lenient',
  undoes: true,
  treeId: context.record.id,
});

const destinationOf = (context: TransferContext) => context.environment(context.record.onto_path);

/** Takes back a transfer's own changes; what others changed since stays, and is named. */
export const undo: Procedure = {
  kind: 'undo',
  steps: [
    ...deliverySteps(setOf),
    {
      name: 'record',
      title: 'Put the former baseline back',
      async run(context) {
        const { installation } = context;
        const undone = await installation.transfers.get(installation.records, context.record.undo_of as string);
        const former = undone.data.formerBaseline as TransferFacts['baselineIds'];
        const pair = former && (await findBaseline(installation.records, former.lower, former.upper));
        // A copy that was made anew since has another baseline, which stays.
        if (former && pair && pair.lower_manifest === undone.data.advancedBaseline)
          await saveBaseline(installation.records, {
            ...pair,
            lower_manifest: former.lowerManifest,
            upper_manifest: former.upperManifest,
          });
        await installation.transfers.update(installation.records, undone.id, { state: 'undone' });
        await removeOldTrees(context, await destinationOf(context));
        return undefined;
      },
    },
  ],
  mustGoForward: deliveryGoesForward,
  async putBack(context) {
    if (await isDelivered(context)) return ['The undo is done, but for its last steps.'];
    await discardStaged(context, await destinationOf(context), setOf(context));
    return [];
  },
};
