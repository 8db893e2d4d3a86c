import { ProblemError } from '../../ground/problems.js';
import { askFor, goBehind, waitsFor, wantedBy } from '../../requests/claims.js';
import { tell } from '../../requests/moves.js';
import { addHistory, getRequest } from '../../requests/requests.js';
import { tellPeople } from '../../requests/tell.js';
import type { Handlers } from './call.js';
import { changing } from './requests.js';

const NAMED = 5;

export const claimHandlers: Handlers<'claimAsk' | 'claimYield'> = {
  claimAsk: (call) =>
    changing(call, async (trx, request) => {
      const { installation, person } = call;
      const at = installation.now();
      const held = await waitsFor(trx, request);
      if (held.length === 0)
        throw new ProblemError(
          'conflict',
          'It waits for nothing that others have claimed.',
          'Nothing is to be asked for.',
        );
      const items = held.map((one) => one.item);
      await askFor(trx, request.id, items, at);
      for (const id of new Set(held.map((one) => one.request))) {
        const holder = await getRequest(trx, id);
        const items = held.filter((one) => one.request === id).map((one) => one.item);
        const words = `"${request.title}" waits for ${items.slice(0, NAMED).join(', ')}${items.length > NAMED ? ` and ${items.length - NAMED} more` : ''}.`;
        await tellPeople(trx, holder, { kind: 'hand-over', by: person.id, at, words });
        await addHistory(trx, id, { at, person: person.id, act: 'hand-over', words });
        await tell(trx, holder);
      }
      return { items: held.map((one) => one.item) };
    }),

  claimYield: (call) =>
    changing(call, async (trx, request) => {
      const { installation, person, body } = call;
      const at = installation.now();
      const wanted = await wantedBy(trx, request);
      const other = body.items.find((item) => !wanted.some((one) => one.item === item));
      if (other !== undefined)
        throw new ProblemError(
          'conflict',
          `Nobody waits for ${other}.`,
          `See who waits: tessarion request show ${request.id}`,
        );
      await goBehind(trx, request, body.items);
      for (const id of new Set(wanted.filter((one) => body.items.includes(one.item)).map((one) => one.request))) {
        const next = await getRequest(trx, id);
        await tellPeople(trx, next, {
          kind: 'freed',
          by: person.id,
          at,
          words: request.title,
          concerned: { 'next-in-line': [next.author] },
        });
        await tell(trx, next);
      }
      await addHistory(trx, request.id, {
        at,
        person: person.id,
        act: 'yield',
        words: body.items.slice(0, NAMED).join(', '),
      });
      return { items: body.items };
    }),
};
