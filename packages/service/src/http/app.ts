import { Readable } from 'node:stream';
import fastifyCookie from '@fastify/cookie';
import fastifyHelmet from '@fastify/helmet';
import fastifyStatic from '@fastify/static';
import {
  type Endpoint,
  type EndpointName,
  endpoints,
  isAct,
  openApiDocument,
  type Person,
  type Problem,
} from '@tessarion/contract';
import type { Actor } from '@tessarion/core';
import { plainIssue } from '@tessarion/core';
import { EngineError } from '@tessarion/engine';
import Fastify, {
  type FastifyBaseLogger,
  type FastifyInstance,
  type FastifyReply,
  type FastifyRequest,
  LogController,
} from 'fastify';
import { z } from 'zod';
import { withNearest } from '../fleet/known-names.js';
import { publishHolders } from '../front/routes.js';
import { AbsentPlace } from '../ground/absent.js';
import { ProblemError, TooMany } from '../ground/problems.js';
import { guestOf } from '../guests/enter.js';
import type { GuestRecord } from '../guests/guests.js';
import type { Caller } from '../people/actors.js';
import { Provider, providerSettings } from '../people/provider.js';
import { type Sight, sightOf } from '../people/sight.js';
import { Access } from '../people/sign-in.js';
import type { Installation } from '../transfers/installation.js';
import { mustBeAllowed, refuseUnless } from './allow.js';
import { addCalendar } from './calendar.js';
import { GUEST_COOKIE, sessionCookie } from './cookies.js';
import { documentationPage } from './docs-page.js';
import { EventStream } from './event-stream.js';
import type { Call } from './handlers/call.js';
import { handlers } from './handlers/index.js';
import { Idempotency } from './idempotency.js';
import { mustMatch } from './if-match.js';
import { Limits } from './limits.js';
import { journalOf } from './note.js';
import { addProviderRoutes, RETURN_PATH } from './provider-routes.js';
import { sendKept } from './send-kept.js';

/** What the interface serves. */
export interface AppOptions {
  readonly installation: Installation;
  /** Folder of the built console; absent in tests of the interface alone. */
  readonly consoleFolder: string | undefined;
  readonly version: string;
  /** Fronts that are believed who asks. */
  readonly trustedFronts: readonly string[];
  /** Requests that one person may make in a minute. */
  readonly mostRequests: number;
}

/** Input and answers are judged by the contract's own types; Fastify's compilers of schemas need not even be read. */
const noSchemas = (): never => {
  throw new Error('A route has a schema beside its contract.');
};

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

/** Makes the HTTP interface from the contract. */
export async function createApp(options: AppOptions): Promise<FastifyInstance> {
  const { installation } = options;
  const access = new Access(installation.records, installation.folder.keys, installation.now);
  const known = providerSettings();
  const provider = known && new Provider(known, `${installation.consoleUrl}${RETURN_PATH}`);
  const idempotency = new Idempotency(installation);
  const limits = new Limits(options.mostRequests);
  const app = Fastify({
    loggerInstance: installation.log.child({ name: 'service' }) as FastifyBaseLogger,
    logController: new LogController({ disableRequestLogging: true }),
    bodyLimit: 2 * 1024 * 1024,
    requestIdHeader: false,
    trustProxy: options.trustedFronts.length > 0 ? [...options.trustedFronts] : false,
    routerOptions: { maxParamLength: 500 },
    schemaController: { compilersFactory: { buildValidator: noSchemas, buildSerializer: noSchemas } },
  });
  await app.register(fastifyCookie);
  await app.register(fastifyHelmet, {
    contentSecurityPolicy: {
      directives: {
        defaultSrc: ["'self'"],
        styleSrc: ["'self'", "'unsafe-inline'"],
        imgSrc: ["'self'", 'data:'],
        scriptSrc: ["'self'"],
        upgradeInsecureRequests: null,
      },
    },
    strictTransportSecurity: installation.consoleUrl.startsWith('https:') && { maxAge: 31_536_000 },
  });

  app.setErrorHandler((error, request, reply) => {
    const problem = toProblem(error);
    if (error instanceof TooMany) reply.header('retry-after', error.seconds);
    if (problem.status >= 500) request.log.error({ err: error }, 'request failed');
    sendProblem(reply, problem);
  });
  app.addHook('onResponse', async (request, reply) => {
    request.log.info(
      {
        method: request.method,
        path: request.url.split('?')[0],
        status: reply.statusCode,
        ms: Math.round(reply.elapsedTime),
      },
      'request',
    );
  });

  const callerOf = (request: FastifyRequest): Promise<Caller | undefined> => {
    const bearer = BEARER.exec(request.headers.authorization ?? '')?.[1];
    return access.callerOf({ token: bearer, session: request.cookies[sessionCookie(installation)] });
  };
  const mustBeSignedIn = async (request: FastifyRequest): Promise<Caller> => {
    const caller = await callerOf(request);
    if (!caller) {
      await limits.ofStranger(request.ip);
      throw new ProblemError(
        'not-signed-in',
        request.headers.authorization === undefined
          ? 'You are not signed in.'
          : 'This token is not known, or has ended.',
        'Sign in: in the console, or with tessarion sign-in.',
      );
    }
    return caller;
  };

  const mustBeGuest = async (request: FastifyRequest): Promise<GuestRecord> => {
    const guest = await guestOf(installation, request.cookies[GUEST_COOKIE]);
    if (!guest) {
      await limits.ofStranger(request.ip);
      throw new ProblemError(
        'not-signed-in',
        'Your link has ended, or you have not come in by it.',
        'Open the link once more, or ask whoever sent it for another one.',
      );
    }
    return guest;
  };

  for (const [name, definition] of Object.entries(endpoints) as [EndpointName, Endpoint][]) {
    app.route({
      method: definition.method,
      url: `/api/v1${definition.path}`,
      handler: async (request, reply) => {
        const { permission, costs = 1 } = definition;
        if (permission === 'open') await limits.ofStranger(request.ip);
        const caller = permission === 'open' || permission === 'guest' ? undefined : await mustBeSignedIn(request);
        const guest = permission === 'guest' ? await mustBeGuest(request) : undefined;
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
        const answer = async (): Promise<unknown> => {
          if (caller && sight) await mustBeAllowed(installation, definition, caller, sight, input);
          const ifMatch = request.headers['if-match'];
          let isMatched = false;
          const call: Call = {
            ...input,
            person: caller?.person as Person,
            actor: caller?.actor as Actor,
            sight: sight as Sight,
            guest: guest as GuestRecord,
            installation,
            access,
            provider,
            session: request.cookies[sessionCookie(installation)],
            token: caller?.token,
            address: request.ip,
            reply,
            note: note.done,
            mustMatch: (etag) => {
              mustMatch(ifMatch, etag);
              isMatched = true;
            },
            mustHold: (permission, thing) => refuseUnless(caller?.actor as Actor, permission, thing),
          };
          const run = async (): Promise<unknown> => {
            const given = await (handlers[name] as (given: Call) => Promise<unknown>)(call);
            const checked = definition.isText ? given : definition.response.parse(given);
            if (isAct(definition) && !note.isDone) throw new Error(`${name} left nothing in the journal.`);
            if (definition.isEdit && !isMatched) throw new Error(`${name} wrote over what it did not compare.`);
            return checked;
          };
          const key = request.headers['idempotency-key'];
          return typeof key === 'string' && caller && definition.method !== 'GET'
            ? idempotency.once(
                key,
                caller.person.id,
                `${name} ${JSON.stringify([input.params, input.query, input.body, ifMatch])}`,
                run,
              )
            : run();
        };
        const result = await note.refusals(installation.records, input, () =>
          answer().catch(async (error: unknown) => {
            throw sight && error instanceof AbsentPlace ? await withNearest(installation.records, sight, error) : error;
          }),
        );
        if (CHANGES_SIGHT.has(name)) await publishHolders(installation);
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

  addCalendar(app, installation, limits);
  if (provider) addProviderRoutes(app, installation, access, provider, limits);

  const stream = new EventStream(installation);
  app.get('/api/v1/events', { exposeHeadRoute: false }, async (request, reply) => {
    const { person } = await mustBeSignedIn(request);
    await limits.ofPerson(person.id, 1);
    await stream.serve(request, reply, person.id, async () => {
      const caller = await callerOf(request);
      return caller && sightOf(installation.records, caller.actor);
    });
  });
  app.get('/api/openapi.json', async (request) => {
    await mustBeSignedIn(request);
    return openApiDocument(options.version);
  });
  app.get('/api/docs', async (request, reply) => {
    await mustBeSignedIn(request);
    return reply.type('text/html; charset=utf-8').send(documentationPage(options.version));
  });
  app.get('/health', async () => ({ state: 'up' }));
  app.get('/ready', async (_request, reply) => {
    const notReady = (because: string) => reply.status(503).send({ state: 'not ready', because });
    try {
      await installation.records.raw('SELECT 1');
    } catch {
      return notReady('the records cannot be reached');
    }
    const serves = await installation.gateway.ping().catch(() => undefined);
    return serves ? { state: 'ready' } : notReady('the gateway does not answer');
  });

  if (options.consoleFolder !== undefined) {
    await app.register(fastifyStatic, {
      root: options.consoleFolder,
      wildcard: false,
      immutable: true,
      maxAge: '365d',
      index: false,
      preCompressed: true,
      // A front that keeps answers keeps one for each form.
      setHeaders: (response) => response.setHeader('vary', 'Accept-Encoding'),
    });
    app.get('/', (_request, reply) => sendConsole(reply));
  }
  app.setNotFoundHandler((request, reply) => {
    if (
      options.consoleFolder !== undefined &&
      request.method === 'GET' &&
      !request.url.startsWith('/api/') &&
      !request.url.startsWith('/assets/')
    )
      return sendConsole(reply);
    sendProblem(
      reply,
      new ProblemError(
        'not-found',
        `Nothing answers to ${request.method} ${request.url.split('?')[0]}.`,
        'See /api/docs for what there is.',
      ).toProblem(),
    );
  });
  app.addHook('onClose', async () => stream.close());
  return app;
}

const sendConsole = (reply: FastifyReply): FastifyReply =>
  reply.header('cache-control', 'no-cache').sendFile('index.html', { maxAge: 0, immutable: false });

function sendProblem(reply: FastifyReply, problem: Problem): void {
  void reply.status(problem.status).type('application/problem+json').send(JSON.stringify(problem));
}

/** What a site's own database says is no fault of the service. */
const ENGINE_STATUS: Readonly<Partial<Record<EngineError['code'], number>>> = {
  'file-refused': 409,
  'database-unreachable': 503,
  'database-refused': 409,
};

function toProblem(error: unknown): Problem {
  if (error instanceof ProblemError) return error.toProblem();
  if (error instanceof EngineError)
    return {
      type: `tessarion:${error.code}`,
      title: 'Failed',
      status: ENGINE_STATUS[error.code] ?? 500,
      detail: error.message,
      next: error.next,
    };
  const status = (error as { statusCode?: number }).statusCode;
  if (status !== undefined && status < 500)
    return { type: 'tessarion:invalid', title: 'Invalid request', status, detail: (error as Error).message };
  return {
    type: 'tessarion:failed',
    title: 'Failed',
    status: 500,
    detail: 'Something unexpected happened.',
    next: 'Look at the service’s log for this time.',
  };
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

const BEARER = /^Bearer (.+)$/;

/** A page of another origin must not act with somebody's cookie. */
function refuseForeignOrigin(request: FastifyRequest, consoleUrl: string): void {
  if (request.method === 'GET' || BEARER.test(request.headers.authorization ?? '')) return;
  const { origin } = request.headers;
  const own = [`${request.protocol}://${request.host}`, new URL(consoleUrl).origin];
  if (origin !== undefined && !own.includes(origin))
    throw new ProblemError('not-allowed', 'This request comes from another site.', 'Use the console itself.');
}
