import fastifyCookie from '@fastify/cookie';
import fastifyHelmet from '@fastify/helmet';
import { openApiDocument } from '@tessarion/contract';
import Fastify, { type FastifyBaseLogger, type FastifyInstance, LogController } from 'fastify';
import { TooMany } from '../ground/problems.js';
import { Provider, providerSettings } from '../people/provider.js';
import { sightOf } from '../people/sight.js';
import { Access } from '../people/sign-in.js';
import type { Installation } from '../transfers/installation.js';
import { addCalendar } from './calendar.js';
import { Callers } from './callers.js';
import { addCalls } from './calls.js';
import { documentationPage } from './docs-page.js';
import { EventStream } from './event-stream.js';
import { Limits } from './limits.js';
import { addConsole, addHealth } from './pages.js';
import { addProviderRoutes, RETURN_PATH } from './provider-routes.js';
import { sendProblem, toProblem } from './send-problem.js';

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

/** Makes the HTTP interface from the contract. */
export async function createApp(options: AppOptions): Promise<FastifyInstance> {
  const { installation } = options;
  const access = new Access(installation.records, installation.folder.keys, installation.now);
  const known = providerSettings();
  const provider = known && new Provider(known, `${installation.consoleUrl}${RETURN_PATH}`);
  const limits = new Limits(options.mostRequests);
  const callers = new Callers(installation, access, limits);
  const app = await bareApp(options);

  addCalls(app, { installation, access, callers, limits, provider });
  addCalendar(app, installation, limits);
  if (provider) addProviderRoutes(app, installation, access, provider, limits);
  addEvents(app, installation, callers, limits);
  app.get('/api/openapi.json', async (request) => {
    await callers.mustBeSignedIn(request);
    return openApiDocument(options.version);
  });
  app.get('/api/docs', async (request, reply) => {
    await callers.mustBeSignedIn(request);
    return reply.type('text/html; charset=utf-8').send(documentationPage(options.version));
  });
  addHealth(app, installation);
  await addConsole(app, options.consoleFolder);
  return app;
}

/** An application that answers nothing yet: what holds for every request, how errors are told, and the log. */
async function bareApp(options: AppOptions): Promise<FastifyInstance> {
  const { installation } = options;
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
  return app;
}

/** Adds the stream of events. */
function addEvents(app: FastifyInstance, installation: Installation, callers: Callers, limits: Limits): void {
  const stream = new EventStream(installation);
  app.get('/api/v1/events', { exposeHeadRoute: false }, async (request, reply) => {
    const { person } = await callers.mustBeSignedIn(request);
    await limits.ofPerson(person.id, 1);
    await stream.serve(request, reply, person.id, async () => {
      const caller = await callers.of(request);
      return caller && sightOf(installation.records, caller.actor);
    });
  });
  app.addHook('onClose', async () => stream.close());
}
