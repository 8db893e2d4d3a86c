import { Readable } from 'node:stream';
import { type Endpoint, type EndpointName, endpoints, isAct, type Person } from '@tessarion/contract';
import { type Actor, plainIssue } from '@tessarion/core';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';
import { withNearest } from '../fleet/known-names.js';
import { publishHolders } from '../front/routes.js';
import { AbsentPlace } from '../ground/absent.js';
import { ProblemError } from '../ground/problems.js';
import type { GuestRecord } from '../guests/guests.js';
import type { Provider } from '../people/provider.js';
import { type Sight, sightOf } from '../people/sight.js';
import type { Access } from '../people/sign-in.js';
import type { Installation } from '../transfers/installation.js';
import { type Input, mustBeAllowed, refuseUnless } from './allow.js';
import { type Callers, refuseForeignOrigin } from './callers.js';
import { sessionCookie } from './cookies.js';
import type { Call } from './handlers/call.js';
import { handlers } from './handlers/index.js';
import { Idempotency } from './idempotency.js';
import { mustMatch } from './if-match.js';
import type { Limits } from './limits.js';
import { type CallNote, journalOf } from './note.js';
import { sendKept } from './send-kept.js';

/** Acts after which others may see environments than before: passes of those who may no more end with them. */
const CHANGES_SIGHT: ReadonlySet<EndpointName> = new Set([
  'guestEnd',
  'personEnd',
  'personErase',
  'roleGive',
  'roleRemove',
  'roleSave',
  'roleTake',
  'teamRemove',
  'teamSave',
]);

/** What every call is answered with. */
export interface CallMeans {
  readonly installation: Installation;
  readonly access: Access;
  readonly callers: Callers;
  readonly limits: Limits;
  /** By which one may sign in, where one is set up. */
  readonly provider: Provider | undefined;
}

/** Adds a route for each call of the contract. */
export function addCalls(app: FastifyInstance, means: CallMeans): void {
  const idempotency = new Idempotency(means.installation);
  for (const [name, definition] of Object.entries(endpoints) as [EndpointName, Endpoint][])
    app.route({
      method: definition.method,
      url: `/api/v1${definition.path}`,
      handler: async (request, reply) => {
        const result = await answer(means, idempotency, name, request, reply);
        if (CHANGES_SIGHT.has(name)) await publishHolders(means.installation);
        if (definition.isKept) return sendKept(request, reply, result);
        const etag = (result as { etag?: unknown } | undefined)?.etag;
        if (typeof etag === 'string') reply.header('etag', `"${etag}"`);
        // The entity tag is that of what can be edited: nobody may keep the answer by it.
        return reply
          .status(definition.status ?? 200)
          .header('cache-control', 'no-store')
          .send(definition.isText ? Readable.from(result as AsyncIterable<string>) : result);
      },
    });
}

/** Lets a call pass or refuses it, runs it, and sees that the journal tells of it either way. */
async function answer(
  means: CallMeans,
  idempotency: Idempotency,
  name: EndpointName,
  request: FastifyRequest,
  reply: FastifyReply,
): Promise<unknown> {
  const { installation, callers, limits } = means;
  const definition: Endpoint = endpoints[name];
  const { permission, costs = 1 } = definition;
  if (permission === 'open') await limits.ofStranger(request.ip);
  const caller = permission === 'open' || permission === 'guest' ? undefined : await callers.mustBeSignedIn(request);
  const guest = permission === 'guest' ? await callers.mustBeGuest(request) : undefined;
  if (caller) await limits.ofPerson(caller.person.id, costs);
  if (guest) await limits.ofGuest(guest.id, costs);
  refuseForeignOrigin(request, installation.consoleUrl);
  const input = {
    params: parsed(definition.params, request.params, 'path'),
    query: parsed(definition.query, request.query, 'query'),
    body: parsed(definition.body, request.body ?? undefined, 'body'),
  };
  const note = journalOf(installation.journal, limits, name, request, caller, guest);
  const sight = caller && (await sightOf(installation.records, caller.actor));
  const run = (): Promise<unknown> =>
    runHandler(name, note, request.headers['if-match'], {
      ...input,
      person: caller?.person as Person,
      actor: caller?.actor as Actor,
      sight: sight as Sight,
      guest: guest as GuestRecord,
      installation,
      access: means.access,
      provider: means.provider,
      session: request.cookies[sessionCookie(installation)],
      token: caller?.token,
      address: request.ip,
      reply,
      note: note.done,
      mustHold: (asked, thing) => refuseUnless(caller?.actor as Actor, asked, thing),
    });
  return note.refusals(installation.records, input, async () => {
    try {
      if (caller && sight) await mustBeAllowed(installation, definition, caller, sight, input);
      const key = request.headers['idempotency-key'];
      return typeof key === 'string' && caller && definition.method !== 'GET'
        ? await idempotency.once(key, caller.person.id, asked(name, input, request.headers['if-match']), run)
        : await run();
    } catch (error) {
      throw sight && error instanceof AbsentPlace ? await withNearest(installation.records, sight, error) : error;
    }
  });
}

/** What a key of idempotency stands for: it may come back with the same call only. */
const asked = (name: EndpointName, { params, query, body }: Input, ifMatch: string | undefined): string =>
  `${name} ${JSON.stringify([params, query, body, ifMatch])}`;

/** Runs the handler of a call; one that keeps no record of an act, or writes over what it did not compare, is broken. */
async function runHandler(
  name: EndpointName,
  note: CallNote,
  ifMatch: string | undefined,
  given: Omit<Call, 'mustMatch'>,
): Promise<unknown> {
  const definition: Endpoint = endpoints[name];
  let isMatched = false;
  const call: Call = {
    ...given,
    mustMatch: (etag) => {
      mustMatch(ifMatch, etag);
      isMatched = true;
    },
  };
  const result = await (handlers[name] as (call: Call) => Promise<unknown>)(call);
  const checked = definition.isText ? result : definition.response.parse(result);
  if (isAct(definition) && !note.isDone) throw new Error(`${name} left nothing in the journal.`);
  if (definition.isEdit && !isMatched) throw new Error(`${name} wrote over what it did not compare.`);
  return checked;
}

function parsed(type: z.ZodType, value: unknown, part: string): unknown {
  const result = type.safeParse(type instanceof z.ZodUndefined ? undefined : (value ?? {}), {
    error: plainIssue,
  });
  if (result.success && holdsNul(result.data))
    throw new ProblemError('invalid', 'A NUL stands in a text, which no record can hold.', 'Take it out.');
  if (result.success) return result.data;
  const fields = result.error.issues.map((issue) => ({
    path: [part, ...issue.path.map(String)].join('.'),
    message: issue.message,
  }));
  throw new ProblemError(
    'invalid',
    `${fields.length === 1 ? 'One field is' : `${fields.length} fields are`} not right: ${fields
      .map((field) => `${field.path}: ${field.message}`)
      .slice(0, 3)
      .join('; ')}.`,
    'Correct what is named.',
    fields,
  );
}

function holdsNul(value: unknown): boolean {
  if (typeof value === 'string') return value.includes('\0');
  if (typeof value !== 'object' || value === null) return false;
  return Object.entries(value).some(([key, inner]) => key.includes('\0') || holdsNul(inner));
}
