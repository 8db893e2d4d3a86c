import { type Environment, messageOf } from '@tessarion/engine';
import { type EnvironmentRecord, toEngine } from '../fleet/environments.js';
import { forgetMeasures } from '../fleet/measures.js';
import { forgetForecasts } from '../forecasts/forecast-items.js';
import { forgetOldEvents, publishEvent } from '../ground/events.js';
import { libraryOf, whileStoreRests } from '../stored/snapshots.js';
import type { Installation } from '../transfers/installation.js';
import { lookAt } from './look.js';

/** How old what is known of an environment's size and drift may become. */
const LOOK_EVERY_MS = 60 * 60_000;
/** A round ends after this time, so that the next one can see again who is reached. */
const ROUND_MS = 45_000;
const AT_ONCE = 8;
/** A round asks once: the next one asks again. */
const ANSWER_MS = 10_000;

/**
 * Goes round all environments: sees whether each is reached, and measures and compares the one that was not looked at
 * for longest, as long as there is time. Rounds never overlap.
 */
export async function goRound(installation: Installation): Promise<void> {
  const { records, environments, now } = installation;
  const started = now().getTime();
  await forgetForecasts(installation);
  await forgetMeasures(installation.records, installation.now());
  await forgetOldEvents(records);
  const ready = (await environments.list(records)).filter((one) => one.status === 'ready');
  const reached = new Set<EnvironmentRecord>();
  const waiting = [...ready];
  const seeOthers = async (): Promise<void> => {
    for (let one = waiting.shift(); one; one = waiting.shift())
      if (await seeIfReached(installation, one)) reached.add(one);
  };
  await Promise.all(Array.from({ length: AT_ONCE }, seeOthers));
  const due = ready
    .filter((one) => reached.has(one) && started - lastLook(one) > LOOK_EVERY_MS)
    .sort((a, b) => lastLook(a) - lastLook(b));
  for (const one of due) {
    if (now().getTime() - started > ROUND_MS) return;
    await lookAt(installation, one.path);
    if (one.kind === 'live') await tidyStore(installation, one.site);
  }
}

/** Joins small packs of a site's store, unless somebody works with it; then it is done another time. */
async function tidyStore({ records, folder, log }: Installation, site: string): Promise<void> {
  try {
    const joined = await whileStoreRests(records, site, () => libraryOf(folder, site).compact());
    if (joined) log.info({ site, joined }, 'small packs of its store were joined');
  } catch (error) {
    log.warn({ site, err: error }, 'its store could not be tidied');
  }
}

/** When an environment was last measured and compared: by a round, or when it was made. */
const lastLook = ({ looked_at, refreshed_at, made_at }: EnvironmentRecord): number =>
  Math.max(...[looked_at, refreshed_at, made_at].map((at) => at?.getTime() ?? 0));

/** Records whether an environment's folder and databases answer, and says so when that has changed. */
async function seeIfReached(installation: Installation, record: EnvironmentRecord): Promise<boolean> {
  const { records, environments, now, log } = installation;
  if (record.isUnreadable) {
    await environments.update(records, record.path, { unreached: record.unreached });
    return false;
  }
  const problem = await problemOf(toEngine(record, undefined));
  if (problem !== (record.unreached?.problem ?? null)) {
    log.warn({ environment: record.path, problem }, problem === null ? 'reached again' : 'not reached');
    await environments.update(records, record.path, {
      unreached: problem === null ? null : { problem, since: now().toISOString() },
    });
    await publishEvent(records, { type: 'site', site: record.site });
  }
  return problem === null;
}

async function problemOf({ server, folder, place, databases }: Environment): Promise<string | null> {
  try {
    // The folder that the link leads to, which may be gone though the link is there.
    for (const root of place.roots)
      if (!(await server.isFolder(root.path)))
        return `The root "${root.name}" is not there: ${Buffer.from(root.path, 'latin1')}.`;
    await server.freeBytes(folder);
    for (const { login, system } of databases) await system.reach(login, [ANSWER_MS]);
    return null;
  } catch (error) {
    return messageOf(error);
  }
}
