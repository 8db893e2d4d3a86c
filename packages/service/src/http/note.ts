import type { EndpointName, Person } from '@tessarion/contract';
import type { FastifyRequest } from 'fastify';
import type { OnRecords } from '../ground/open.js';
import { NotConfirmed, ProblemError, type ProblemKind } from '../ground/problems.js';
import type { GuestRecord } from '../guests/guests.js';
import type { Journal, Who } from '../journal/journal.js';
import type { Caller } from '../people/actors.js';
import type { Input } from './allow.js';
import type { Call } from './handlers/call.js';
import type { Limits } from './limits.js';

/** Refusals that somebody may ask about later; a misspelt field is none. */
const NOTED: readonly ProblemKind[] = [
  'not-allowed',
  'not-signed-in',
  'second-factor',
  'wrong-password',
  'passcode',
  'too-many-tries',
  'not-confirmed',
  'lane-closed',
  'needs-approval',
  'claimed',
  'closed',
];

/** What one call leaves in the journal. */
export interface CallNote {
  readonly isDone: boolean;
  readonly done: Call['note'];
  /** Runs a call, and writes down that it was refused. */
  refusals<T>(on: OnRecords, input: Input, run: () => Promise<T>): Promise<T>;
}

/** What a call writes into the journal: who asked, from where, and for what. */
export function journalOf(
  journal: Journal,
  limits: Limits,
  act: EndpointName,
  request: FastifyRequest,
  caller: Caller | undefined,
  guest: GuestRecord | undefined,
): CallNote {
  let isDone = false;
  type By = Person | GuestRecord | undefined;
  const isGuest = (by: By): by is GuestRecord => by !== undefined && 'expires_at' in by;
  const actor = (by: By = guest): string => {
    if (isGuest(by)) return `guest ${by.id}`;
    return by ? `person ${by.id}` : (caller?.name ?? 'nobody');
  };
  const who = (by: By = guest): Who => {
    const one = by ?? caller?.person;
    return { person: isGuest(one) ? null : (one?.id ?? null), name: one?.name ?? 'nobody', from: request.ip };
  };
  return {
    get isDone() {
      return isDone;
    },
    async done(on, thing, details, by) {
      await journal.write(on, { actor: actor(by), act, outcome: 'done', thing, details, who: who(by) });
      isDone = true;
    },
    async refusals(on, input, run) {
      try {
        return await run();
      } catch (error) {
        const isQuestion = error instanceof NotConfirmed && (error.given ?? '') === '';
        if (error instanceof ProblemError && NOTED.includes(error.kind) && !isQuestion) {
          const by = actor(undefined);
          const untold = await limits.refusal(by);
          if (untold !== undefined)
            await journal.write(on, {
              actor: by,
              act,
              outcome: 'refused',
              thing: thingOf(input),
              // Others before it were only counted.
              details: { rule: error.kind, words: error.message, ...(untold > 0 ? { before: untold } : {}) },
              who: who(undefined),
            });
        }
        throw error;
      }
    },
  };
}

/** What a call was about, as far as its address says it; never anything of a body, which may hold secrets. */
const thingOf = ({ params }: Input): string =>
  Object.values((params ?? {}) as Record<string, unknown>)
    .filter((value) => typeof value === 'string')
    .join('/');
