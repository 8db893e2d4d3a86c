import { CLAIM_DAYS, idleStep, WARNING_DAYS } from '@tessarion/core';
import type { Installation } from '../transfers/installation.js';
import { letGo, tell } from './moves.js';
import { addHistory, holdRequest } from './requests.js';
import { tellPeople } from './tell.js';

/** What waits for its time, or is under way, does not lie still. */
const STILL = ['draft', 'in-review', 'returned', 'approved', 'blocked'] as const;

/** Tells authors whose requests lie still, and lets their claims lapse some days later. */
export async function lapseClaims({ records, now, journal }: Installation): Promise<void> {
  const early = new Date(now().getTime() - (CLAIM_DAYS - WARNING_DAYS) * 86_400_000);
  const still = (await records('change_request as r')
    .whereIn('state', [...STILL])
    .where('updated_at', '<=', early)
    .whereExists(records('claim').whereRaw('request_id = r.id'))
    .select('id')) as { id: string }[];
  for (const { id } of still)
    await records.transaction(async (trx) => {
      const request = await holdRequest(trx, id);
      const at = now();
      const step = idleStep(request.updated_at.getTime(), request.idle_warned_at?.getTime(), at.getTime());
      if (!STILL.some((state) => state === request.state) || step === 'none') return;
      if (step === 'warn') {
        await trx('change_request').where({ id }).update({ idle_warned_at: at });
        const words = `Nobody has done anything to it for a while: in ${WARNING_DAYS} days what it has claimed is free for others.`;
        return tellPeople(trx, request, { kind: 'idle', by: null, at, words });
      }
      await letGo(trx, request, null, at);
      const words = 'What it had claimed is free for others; it claims it anew when somebody goes on with it.';
      await addHistory(trx, id, { at, person: null, act: 'idle', words });
      await tellPeople(trx, request, { kind: 'idle', by: null, at, words });
      await journal.write(trx, {
        actor: `idleness of ${id}`,
        act: 'claimsLapse',
        outcome: 'done',
        thing: request.onto_path,
        details: { request: id },
        who: undefined,
      });
      await tell(trx, request);
    });
}
