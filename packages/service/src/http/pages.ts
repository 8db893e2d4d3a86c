import fastifyStatic from '@fastify/static';
import type { FastifyInstance, FastifyReply } from 'fastify';
import { ProblemError } from '../ground/problems.js';
import type { Installation } from '../transfers/installation.js';
import { sendProblem } from './send-problem.js';

/** Adds what watches over the service ask: whether it runs, and whether it can do its work. */
export function addHealth(app: FastifyInstance, installation: Installation): void {
  app.get('/health', async () => ({ state: 'up' }));
  app.get('/ready', async (_request, reply) => {
    const notReady = (because: string) => reply.status(503).send({ state: 'not ready', because });
    try {
      await installation.records.raw('SELECT 1');
    } catch {
      return notReady('the records cannot be reached');
    }
    const serves = await installation.front.isReady();
    return serves ? { state: 'ready' } : notReady('the gateway does not answer');
  });
}

/** Adds the console, where there is one, and what answers to everything else. */
export async function addConsole(app: FastifyInstance, folder: string | undefined): Promise<void> {
  if (folder !== undefined) {
    await app.register(fastifyStatic, {
      root: folder,
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
      folder !== undefined &&
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
}

const sendConsole = (reply: FastifyReply): FastifyReply =>
  reply.header('cache-control', 'no-cache').sendFile('index.html', { maxAge: 0, immutable: false });
