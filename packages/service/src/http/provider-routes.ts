import type { FastifyInstance, FastifyReply } from 'fastify';
import { type Journey, NotLetIn, type Provider, personAt } from '../people/provider.js';
import type { Access } from '../people/sign-in.js';
import type { Installation } from '../transfers/installation.js';
import { giveSession, isSecure, sessionCookie } from './cookies.js';
import { tellOfSignIn } from './handlers/access.js';
import type { Limits } from './limits.js';
import { ownPath } from './own-path.js';

const JOURNEY_COOKIE = 'tessarion_journey';
const JOURNEY_MS = 10 * 60_000;
const PATH = '/api/v1/sign-in/provider';

/** Where a provider sends people back to. */
export const RETURN_PATH = `${PATH}/return`;

/** The way to a provider and back; pages, not calls: people are sent on in the browser. */
export function addProviderRoutes(
  app: FastifyInstance,
  installation: Installation,
  access: Access,
  provider: Provider,
  limits: Limits,
): void {
  const { keys } = installation.folder;
  /** What went wrong is told where one signs in. */
  const failed = (reply: FastifyReply, error: unknown): FastifyReply => {
    if (!(error instanceof NotLetIn)) throw error;
    installation.log.warn({ code: error.code, detail: error.message }, 'a provider let nobody in');
    return reply.redirect(`/sign-in?problem=${error.code}`, 303);
  };

  app.get(PATH, async (request, reply) => {
    await limits.ofStranger(request.ip);
    try {
      const { url, journey } = await provider.begin(ownPath((request.query as { to?: string }).to));
      // Sealed, so that nobody can plant a journey of their own; Lax, since the provider sends people back.
      reply.setCookie(
        JOURNEY_COOKIE,
        keys.encrypt(JSON.stringify({ ...journey, until: installation.now().getTime() + JOURNEY_MS })),
        { path: PATH, httpOnly: true, sameSite: 'lax', secure: isSecure(installation), maxAge: JOURNEY_MS / 1000 },
      );
      return reply.redirect(url.href, 303);
    } catch (error) {
      return failed(reply, error);
    }
  });

  app.get(RETURN_PATH, async (request, reply) => {
    await limits.ofStranger(request.ip);
    const journey = journeyIn(installation, request.cookies[JOURNEY_COOKIE]);
    reply.clearCookie(JOURNEY_COOKIE, { path: PATH });
    try {
      if (!journey)
        throw new NotLetIn(
          'not-signed-in',
          'away',
          'You were away too long, or did not begin here.',
          'Sign in once more.',
        );
      const search = request.url.slice(request.url.indexOf('?'));
      const vouched = await provider.end(search, journey);
      const begun = await installation.records.transaction(async (trx) => {
        const person = await personAt(trx, vouched, installation.now());
        if (await access.isNewPlace(person.id, request.ip)) await tellOfSignIn(trx, installation, person, request.ip);
        const former = request.cookies[sessionCookie(installation)];
        if (former !== undefined) await access.signOut(trx, former);
        await installation.journal.write(trx, {
          actor: `person ${person.id}`,
          act: 'signIn',
          outcome: 'done',
          thing: person.id,
          details: { by: provider.name },
          who: { person: person.id, name: person.name, from: request.ip },
        });
        return access.beginSession(trx, person, request.ip);
      });
      giveSession(reply, begun, installation);
      return reply.redirect(journey.to, 303);
    } catch (error) {
      if (error instanceof NotLetIn && (await limits.refusal('nobody')) !== undefined)
        await installation.journal.write(installation.records, {
          actor: 'nobody',
          act: 'signIn',
          outcome: 'refused',
          thing: '',
          details: { by: provider.name, rule: error.kind, words: error.message },
          who: { person: null, name: 'nobody', from: request.ip },
        });
      return failed(reply, error);
    }
  });
}

function journeyIn({ folder, now }: Installation, cookie: string | undefined): Journey | undefined {
  if (cookie === undefined) return undefined;
  try {
    const read = JSON.parse(folder.keys.decrypt(cookie)) as Journey & { until: number };
    return read.until > now().getTime() ? read : undefined;
  } catch {
    // Not sealed by us: as good as none.
    return undefined;
  }
}
