import { setTimeout } from 'node:timers/promises';
import type { Environment } from '@tessarion/engine';
import { type EnvironmentRecord, toEngine } from '../fleet/environments.js';
import { profileOfSite } from '../fleet/profiles.js';
import { gatherFacts } from '../forecasts/comparing.js';
import { aboveOf, driftOf } from '../forecasts/drift.js';
import { NO_WISHES } from '../forecasts/transfer-facts.js';
import { publishEvent } from '../ground/events.js';
import type { Installation } from '../transfers/installation.js';
import { measure } from './measure.js';

/** Rows and files of an environment that are read in a moment. */
const FEW = 20_000;
const MADE_MS = 30_000;
const PAUSE_MS = 250;

/**
 * Looks at a copy that was just made, and packed. Its first comparison reads everything on both ends, and is made now, while
 * nobody waits for it; where little is to be read nobody would wait long.
 *
 * @param path undefined where there is none
 */
export async function lookAtNew(installation: Installation, path: string | undefined): Promise<void> {
  const { records, environments, transfers } = installation;
  if (path === undefined) return;
  // What made it may still be measuring it. Where something else has begun by then, a round looks at it later.
  const until = Date.now() + MADE_MS;
  while ((await transfers.isBusy(records, path)) && Date.now() < until) await setTimeout(PAUSE_MS);
  const size = (await environments.find(records, path))?.size;
  if (size && size.rows + size.files > FEW) await lookAt(installation, path);
}

/** Measures an environment, and compares a copy with what it last had things in common with. */
export async function lookAt(installation: Installation, path: string): Promise<void> {
  const { records, environments, transfers, now, log } = installation;
  try {
    const record = await environments.find(records, path);
    if (record?.status !== 'ready' || (await transfers.isBusy(records, path))) return;
    const profile = (await profileOfSite(records, record.site))?.profile;
    const environment = toEngine(record, profile);
    const size = await measure(environment);
    const drift = await driftFrom(installation, record, environment);
    // What a transfer did meanwhile is newer than what was seen.
    if (await transfers.isBusy(records, path)) return;
    await environments.update(records, path, { size, looked_at: now(), ...(drift === undefined ? {} : { drift }) });
    await publishEvent(records, { type: 'site', site: record.site });
  } catch (error) {
    // A look is no transfer: what is in its way is shown when somebody wants to move something.
    log.warn({ environment: path, err: error }, 'could not be looked at');
    await environments.update(records, path, { looked_at: now() });
  }
}

async function driftFrom(
  installation: Installation,
  record: EnvironmentRecord,
  environment: Environment,
): Promise<EnvironmentRecord['drift'] | undefined> {
  const { records, environments } = installation;
  const upper = await aboveOf(records, environments, record);
  if (upper?.status !== 'ready') return undefined;
  const wish = { method: 'merge', wishes: NO_WISHES } as const;
  const facts = await gatherFacts(installation, { environment }, toEngine(upper, environment.profile), wish);
  return driftOf(facts, installation.now());
}
