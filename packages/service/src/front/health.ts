import { request } from 'node:http';
import type { Check } from '@tessarion/contract';
import { counted, formatLocation } from '@tessarion/core';
import { EngineError, type Environment } from '@tessarion/engine';
import type { Fronted } from './routes.js';

/** How one of the profile's pages answers. */
export interface PageHealth {
  readonly path: string;
  readonly isWell: boolean;
  readonly answer: string;
}

/** Asks for the profile's pages at the web host itself, past gate and hold. */
export async function checkHealth(
  { environments, records, servers }: Pick<Fronted, 'environments' | 'records' | 'servers'>,
  environment: Environment,
): Promise<PageHealth[]> {
  const record = await environments.get(records, environment.path);
  const { web_host: webHost } = await servers.get(records, record.server);
  const pages = environment.profile?.pages ?? [];
  return Promise.all(
    pages.map(async (page) => {
      const address =
        environment.place.addresses.find((one) => one.name === (page.address ?? 'main')) ??
        environment.place.addresses[0];
      const location = address ? new URL(formatLocation(address)) : undefined;
      const answer = await ask(webHost, location?.host ?? '', `${address?.path ?? ''}${page.path}`);
      const isWell = answer.status === 200 && (page.contains === undefined || answer.body.includes(page.contains));
      return {
        path: page.path,
        isWell,
        answer:
          answer.status === 200 && !isWell
            ? `the page lacks "${page.contains}"`
            : `status ${answer.status}${answer.status === 0 ? ` (${answer.body})` : ''}`,
      };
    }),
  );
}

function ask(
  at: { host: string; port: number },
  host: string,
  path: string,
): Promise<{ status: number; body: string }> {
  return new Promise((resolve) => {
    const call = request({ host: at.host, port: at.port, path, headers: { host }, timeout: 10_000 }, (response) => {
      const chunks: Buffer[] = [];
      response.on('data', (chunk: Buffer) => chunks.push(chunk));
      response.on('end', () => resolve({ status: response.statusCode ?? 0, body: Buffer.concat(chunks).toString() }));
    });
    call.on('timeout', () => call.destroy(new Error('no answer within 10 s')));
    call.on('error', (error) => resolve({ status: 0, body: error.message }));
    call.end();
  });
}

/**
 * Fails when a page is unwell that was well before; one that was unwell already does not cause an undo.
 *
 * @throws {EngineError} `command-failed`
 */
export function judgeHealth(before: readonly PageHealth[], after: readonly PageHealth[]): string | undefined {
  const broken = after.filter((page) => !page.isWell && before.find((one) => one.path === page.path)?.isWell !== false);
  if (broken[0])
    throw new EngineError(
      'command-failed',
      `The page ${broken[0].path} is not well any more (${broken[0].answer}); what was written is taken back.`,
      'Look at the site’s own log, mend it on the source, and push again.',
    );
  return after.length === 0
    ? undefined
    : `${after.filter((page) => page.isWell).length} of ${counted(after.length, 'page')} well`;
}

/** What is unwell already is said before anything is written: it will not be by this transfer. */
export function unwellChecks(path: string, pages: readonly PageHealth[]): Check[] {
  return pages
    .filter((page) => !page.isWell)
    .map((page) => ({
      name: 'pages',
      state: 'warning',
      message: `${page.path} of ${path} is not well already: ${page.answer}.`,
      remedy: 'Look at the site’s own log; what is written will not be taken back for it.',
    }));
}

/** How the profile's pages answer after a transfer, and which were unwell before it. */
export function pageChecks(before: readonly PageHealth[], after: readonly PageHealth[]): Check[] {
  return after.map((page): Check => {
    if (page.isWell) return { name: 'pages', state: 'passed', message: `${page.path} answers as it should.` };
    const wasUnwell = before.some((one) => one.path === page.path && !one.isWell);
    return wasUnwell
      ? { name: 'pages', state: 'warning', message: `${page.path} is not well, as before: ${page.answer}.` }
      : { name: 'pages', state: 'failed', message: `${page.path} is not well: ${page.answer}.` };
  });
}
