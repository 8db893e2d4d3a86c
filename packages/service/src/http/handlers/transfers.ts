import type { TransferDetail } from '@tessarion/contract';
import { publishEvent } from '../../ground/events.js';
import { iso } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { wakeFirst } from '../../ground/queue.js';
import { endTransfer } from '../../work/end-transfer.js';
import { startMerge, startReset, startRestore, startUndo } from '../../work/start/merges.js';
import type { Handlers } from './call.js';
import { showTransfer } from './transfer-pages.js';

export const transferHandlers: Handlers<
  | 'pushCreate'
  | 'pullCreate'
  | 'resetCreate'
  | 'restoreCreate'
  | 'transferShow'
  | 'transferStop'
  | 'transferUndo'
  | 'transferAcknowledge'
> = {
  pushCreate: (call) => startMerge(call, call.body, 'up'),

  pullCreate: (call) => startMerge(call, call.body, 'down'),

  resetCreate: (call) => startReset(call, call.body),

  restoreCreate: (call) => startRestore(call, call.body),

  transferUndo: (call) => startUndo(call, call.params.id, call.body),

  async transferShow({ installation, params }): Promise<TransferDetail> {
    const { records, transfers } = installation;
    const record = await transfers.get(records, params.id);
    const steps = await transfers.steps(records, record.id);
    const log = await transfers.told(records, record.id);
    const { checks, proof, warnings, written, items, remains, totals, forecast } = record;
    return {
      ...(await showTransfer(installation, record)),
      steps: steps.map((step) => ({
        name: step.name,
        title: step.title,
        state: step.state,
        startedAt: iso(step.started_at),
        endedAt: iso(step.ended_at),
        detail: step.detail,
      })),
      checks,
      proof,
      warnings,
      written,
      items,
      remains,
      ...totals,
      forecast,
      log: log.map(({ at, text }) => ({ at: at.toISOString(), text })),
    };
  },

  async transferStop(call) {
    const { installation, params } = call;
    const { records, transfers } = installation;
    const record = await transfers.get(records, params.id);
    if (record.state === 'waiting') {
      await records.transaction(async (trx) => {
        const { state } = await trx('transfer').where({ id: record.id }).forUpdate().first('state');
        await call.note(trx, record.onto_path, { transfer: record.id });
        if (state !== 'waiting') {
          // A worker took it in this moment; it stops there.
          await transfers.askToStop(trx, record.id);
          return;
        }
        await endTransfer(trx, installation, record, { state: 'stopped', failure: null }, 'service');
        const made = await installation.environments.find(trx, record.onto_path);
        if (['clone', 'preview'].includes(record.kind) && made?.status === 'making')
          await installation.environments.remove(trx, record.onto_path);
        // Whoever waited behind it may go.
        const places = [record.onto_path, record.from_path].filter((place) => place !== null);
        await wakeFirst(trx, (q) => q.whereIn('onto_path', places).orWhereIn('from_path', places));
      });
    } else if (record.state === 'running' && record.outcome.pastSwitch !== true) {
      await records.transaction(async (trx) => {
        await transfers.askToStop(trx, record.id);
        await call.note(trx, record.onto_path, { transfer: record.id });
      });
    } else {
      throw new ProblemError(
        'conflict',
        `Transfer ${record.id} is ${record.state === 'running' ? 'past its switch' : record.state} and cannot be stopped.`,
        record.state === 'running'
          ? `Undo it when it is done: tessarion undo ${record.id}`
          : 'Nothing needs to be stopped.',
      );
    }
    return showTransfer(installation, await transfers.get(records, record.id));
  },

  async transferAcknowledge(call) {
    const { installation, params } = call;
    const { records, transfers } = installation;
    const record = await transfers.get(records, params.id);
    await records.transaction(async (trx) => {
      await transfers.update(trx, record.id, { acknowledged: true });
      await call.note(trx, record.onto_path, { transfer: record.id });
      await publishEvent(trx, { type: 'site', site: record.site });
    });
    return showTransfer(installation, await transfers.get(records, record.id));
  },
};
