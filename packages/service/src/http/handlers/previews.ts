import type { OnRecords } from '../../ground/open.js';
import type { Doer } from '../../people/people.js';
import { beginPreview, endPreview } from '../../requests/preview.js';
import { holdRequest, type RequestRecord } from '../../requests/requests.js';
import type { Installation } from '../../transfers/installation.js';
import { type TransferRecord, toTransfer } from '../../transfers/transfers.js';
import type { Call, Handlers } from './call.js';

/** Begins a transfer for a request's preview, and notes it. */
function beginning(
  call: Call<{ id: string }>,
  begin: (trx: OnRecords, installation: Installation, request: RequestRecord, by: Doer) => Promise<TransferRecord>,
) {
  const { installation, params, person } = call;
  return installation.records.transaction(async (trx) => {
    const transfer = await begin(trx, installation, await holdRequest(trx, params.id), person);
    await call.note(trx, transfer.onto_path, { request: params.id, transfer: transfer.id });
    return toTransfer(transfer, await installation.transfers.placeInLine(trx, transfer));
  });
}

export const previewHandlers: Handlers<'previewMake' | 'previewRemove'> = {
  previewMake: (call) => beginning(call, beginPreview),
  previewRemove: (call) => beginning(call, endPreview),
};
