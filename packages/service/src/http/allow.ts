import { type About, type Endpoint, isAct } from '@tessarion/contract';
import { type Actor, decide, maySomewhere, type Permission, type Thing } from '@tessarion/core';
import { environmentThing, siteThing } from '../fleet/things.js';
import { noEnvironment, noForecast, noGuest, noRequest, noSite, noSnapshot, noTransfer } from '../ground/absent.js';
import { ProblemError } from '../ground/problems.js';
import type { Caller, TokenInUse } from '../people/actors.js';
import type { Sight } from '../people/sight.js';
import type { Installation } from '../transfers/installation.js';

/** Parts of a call in which its things are named. */
export interface Input {
  readonly params: unknown;
  readonly query: unknown;
  readonly body: unknown;
}

/** What a call acts upon: environments that must be readable, and the thing that the permission is asked for. */
interface ActedUpon {
  readonly ends: readonly string[];
  readonly target: Thing;
  readonly absent: ProblemError;
}

/**
 * Lets a call pass, or refuses it: what may not be read is not there; what may be read needs the endpoint's permission.
 *
 * @throws {ProblemError} `not-found`, `not-allowed`
 */
export async function mustBeAllowed(
  installation: Installation,
  definition: Endpoint,
  caller: Caller,
  sight: Sight,
  input: Input,
): Promise<void> {
  const { permission, about } = definition;
  if (about === 'own' && isAct(definition)) mustBeUnlimited(caller.token);
  if (permission === 'open' || permission === 'guest' || permission === 'signed-in') return;
  if (about === 'own') return;
  if (about === 'listed') {
    if (!maySomewhere(caller.actor, permission)) refuse(decide(caller.actor, permission, { is: 'installation' }));
    return;
  }
  if (about === 'installation') return refuse(decide(caller.actor, permission, { is: 'installation' }));
  const { ends, target, absent } = await actedUpon(installation, about, input);
  if (ends.some((path) => !sight.seesEnvironment(path))) throw absent;
  if (target.is === 'site' && !sight.seesSite(target.site)) throw absent;
  for (const path of ends)
    if (target.is !== 'installation' && siteOf(path) !== target.site)
      refuse(decide(caller.actor, permission, await environmentThing(installation.records, path)));
  if (target.is === 'installation' && !decide(caller.actor, permission, target).allowed) throw absent;
  if (target.is === 'site' && permission === 'site.read') return;
  const needed: Permission =
    target.is === 'environment' && target.kind === 'live' && definition.onLive ? definition.onLive : permission;
  refuse(decide(caller.actor, needed, target));
}

/**
 * A token that is limited does what it was made for; what is its person's own, who may do more, it leaves alone.
 *
 * @throws {ProblemError} `not-allowed`
 */
export function mustBeUnlimited(token: TokenInUse | undefined): void {
  if (token && (token.permissions !== null || token.scope !== 'everything'))
    throw new ProblemError(
      'not-allowed',
      'A token that is limited neither changes nor is told what is its person’s own.',
      'Sign in, and do it yourself.',
    );
}

/** @throws {ProblemError} `not-allowed` */
export const refuseUnless = (actor: Actor, permission: Permission, thing: Thing): void =>
  refuse(decide(actor, permission, thing));

function refuse(decision: ReturnType<typeof decide>): void {
  if (!decision.allowed) throw new ProblemError('not-allowed', decision.words, decision.next);
}

/** The value of an input that a contract names, such as `body.from` or `params.site/params.environment`. */
function valueAt(input: Input, name: string | undefined): string | undefined {
  if (name === undefined) return undefined;
  const values = name.split('/').map((one) => {
    const [part, field] = one.split('.') as [keyof Input, string];
    return (input[part] as Record<string, unknown> | undefined)?.[field];
  });
  return values.every((value) => typeof value === 'string') ? values.join('/') : undefined;
}

async function actedUpon(installation: Installation, about: Exclude<About, string>, input: Input): Promise<ActedUpon> {
  const { records } = installation;
  const value = (name: string | undefined): string => valueAt(input, name) ?? '';
  if ('site' in about) {
    const site = value(about.site);
    const target = await siteThing(records, site);
    const from = valueAt(input, about.from);
    const snapshot = valueAt(input, about.snapshot);
    const ends = [...(from === undefined ? [] : [from]), ...(await placesOf(installation, snapshot))];
    return {
      ends,
      target,
      absent: ends.length > 0 ? noEnvironment(ends[0] as string) : noSite(site),
    };
  }
  if ('environments' in about) {
    const paths = about.environments.map(value);
    const onto = paths.at(-1) as string;
    const snapshot = valueAt(input, about.snapshot);
    return upon(installation, [...paths, ...(await placesOf(installation, snapshot))], onto);
  }
  if ('transfer' in about) {
    const id = value(about.transfer);
    const absent = noTransfer(id);
    const found = await records('transfer').where({ id }).first('onto_path', 'site');
    if (!found) throw absent;
    // Of a site that could not be brought in, or was given back, what happened is for those who look after all of them.
    const target = await environmentThing(records, found.onto_path, absent).catch((error: unknown): Thing => {
      if (error === absent) return { is: 'installation' };
      throw error;
    });
    return { ends: target.is === 'installation' ? [] : [found.onto_path], target, absent };
  }
  if ('forecast' in about) {
    const id = value(about.forecast);
    const absent = noForecast(id);
    const found = await records('forecast').where({ id }).first('from_path', 'onto_path');
    if (!found) throw absent;
    return upon(installation, [found.from_path, found.onto_path], found.onto_path, absent);
  }
  if ('request' in about) {
    const id = value(about.request);
    const found = await records('change_request').where({ id }).first('from_path', 'onto_path');
    if (!found) throw noRequest(id);
    return upon(installation, [found.onto_path], found.onto_path, noRequest(id));
  }
  if ('guest' in about) return uponGuest(installation, value(about.guest));
  const { path, absent } = await snapshotPlace(installation, value(about.snapshot));
  const onto = valueAt(input, about.onto);
  return onto === undefined ? upon(installation, [path], path, absent) : upon(installation, [path, onto], onto, absent);
}

/** A guest's link: all that it shows must be readable, and its site is acted upon. */
async function uponGuest({ records }: Installation, id: string): Promise<ActedUpon> {
  const absent = noGuest(id);
  const found = (await records('guest_link as g')
    .join('site as s', 's.name', 'g.site')
    .where('g.id', id)
    .first('g.site', 's.client')) as { site: string; client: string } | undefined;
  if (!found) throw absent;
  const shown = (await records('guest_look as l')
    .leftJoin('change_request as r', 'r.id', 'l.request_id')
    .where('l.link_id', id)
    .select(records.raw('coalesce(l.environment, r.onto_path) AS path'))) as { path: string }[];
  return { ends: shown.map((one) => one.path), target: { is: 'site', ...found }, absent };
}

async function snapshotPlace({ records }: Installation, id: string): Promise<{ path: string; absent: ProblemError }> {
  const absent = noSnapshot(id);
  const found = await records('snapshot').where({ id }).first('environment');
  if (!found) throw absent;
  return { path: found.environment, absent };
}

/** Where a snapshot was taken that a call may name. */
const placesOf = async (installation: Installation, snapshot: string | undefined): Promise<string[]> =>
  snapshot === undefined ? [] : [(await snapshotPlace(installation, snapshot)).path];

async function upon(
  { records }: Installation,
  ends: readonly string[],
  path: string,
  absent = noEnvironment(path),
): Promise<ActedUpon> {
  return { ends, target: await environmentThing(records, path, absent), absent };
}

const siteOf = (path: string): string => path.split('/')[0] as string;
