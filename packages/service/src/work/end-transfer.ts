import { isAnnounced } from '@tessarion/core';
import { publishEvent } from '../ground/events.js';
import type { OnRecords } from '../ground/open.js';
import { announce } from '../notices/announce.js';
import { tellStarter } from '../notices/tell.js';
import { noteEnd } from '../requests/deliver.js';
import type { Installation } from '../transfers/installation.js';
import type { TransferRecord } from '../transfers/transfers.js';

/** How a transfer ended. */
export type TransferEnd = Pick<TransferRecord, 'state' | 'failure'> &
  Partial<Pick<TransferRecord, 'remains' | 'totals'>>;

/**
 * Puts on record that a transfer has ended, in the caller's transaction, whoever ends it: what it means for the request
 * that it delivers, the journal, other programs, and whoever looks on.
 */
export async function endTransfer(
  trx: OnRecords,
  { transfers, journal, now }: Pick<Installation, 'transfers' | 'journal' | 'now'>,
  record: TransferRecord,
  end: TransferEnd,
  by: 'worker' | 'service',
): Promise<void> {
  await transfers.update(trx, record.id, { ...end, ended_at: now(), worker: null });
  // A worker that died in one left it running.
  await transfers.endRunningStep(trx, record.id, end.state === 'done' ? 'done' : 'failed');
  await noteEnd(trx, record, end, now());
  await tellStarter(trx, record, end, now());
  await journal.write(trx, {
    actor: by,
    act: 'transferEnd',
    outcome: end.state === 'failed' ? 'failed' : 'done',
    thing: record.onto_path,
    details: {
      transfer: record.id,
      kind: record.kind,
      state: end.state,
      from: record.from_path,
      forecast: record.forecast,
      failure: end.failure?.message ?? null,
    },
    who: undefined,
  });
  const { site, onto_path: onto } = record;
  await publishEvent(trx, { type: 'transfer', transfer: record.id, site, onto, state: end.state, progress: null });
  const type = `tessarion.transfer.${end.state}`;
  if (isAnnounced(type))
    await announce(trx, {
      type,
      at: now(),
      site,
      onto,
      subject: record.id,
      data: {
        kind: record.kind,
        from: record.from_path,
        request: record.request,
        failure: end.failure?.message ?? null,
      },
    });
  await publishEvent(trx, { type: 'site', site });
}
