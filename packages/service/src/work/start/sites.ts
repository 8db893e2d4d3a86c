import type { Transfer } from '@tessarion/contract';
import { plainSentence } from '@tessarion/core';
import type { EnvironmentRecord } from '../../fleet/environments.js';
import { insertSite, type SiteRecord } from '../../fleet/sites.js';
import { NotConfirmed, ProblemError } from '../../ground/problems.js';
import { mustNotBeAskedFor } from '../../requests/asked-for.js';
import { type Starter, start } from './starter.js';

/** Brings a site in, of which live is known. */
export async function startAdoption(
  by: Starter,
  live: EnvironmentRecord,
  site: Pick<SiteRecord, 'client' | 'time_zone' | 'profile'>,
): Promise<Transfer> {
  const { records, environments, now } = by.installation;
  return records.transaction(async (trx) => {
    await insertSite(trx, { ...site, name: live.site, server: live.server }, now());
    await environments.insert(trx, live);
    const sentence = plainSentence({ kind: 'adopt', environment: live.path });
    const wanted = { kind: 'adopt' as const, from: null, onto: live.path, site: live.site, sentence, input: {} };
    return start(trx, by, wanted, { client: site.client, profile: site.profile });
  });
}

/**
 * Gives a site back as it was found.
 *
 * @param confirm its name, as the person has written it
 * @throws {ProblemError} `conflict`, `not-confirmed`
 */
export async function startLeaving(by: Starter, site: string, confirm: string | undefined): Promise<Transfer> {
  const { records, environments } = by.installation;
  const path = `${site}/live`;
  const others = (await environments.list(records, site)).filter((one) => one.path !== path);
  if (others[0])
    throw new ProblemError(
      'conflict',
      `${site} has copies: ${others.map((one) => one.path).join(', ')}.`,
      `Remove them first: tessarion env remove ${others[0].path}`,
    );
  return records.transaction(async (trx) => {
    await mustNotBeAskedFor(trx, path, 'leave');
    if (confirm !== site)
      throw new NotConfirmed(
        confirm,
        `Giving ${site} back forgets its snapshots and change requests.`,
        `Confirm with ${site}.`,
      );
    const sentence = plainSentence({ kind: 'leave', environment: path });
    return start(trx, by, { kind: 'leave', from: null, onto: path, site, sentence, input: {} }, {}, site);
  });
}
