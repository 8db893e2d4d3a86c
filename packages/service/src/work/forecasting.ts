import type { Check, Forecast } from '@tessarion/contract';
import { sentenceText } from '@tessarion/core';
import { toEngine } from '../fleet/environments.js';
import { profileOfSite } from '../fleet/profiles.js';
import { gatherFacts } from '../forecasts/comparing.js';
import { aboveOf, driftOf } from '../forecasts/drift.js';
import { storeItems } from '../forecasts/forecast-items.js';
import {
  countTry,
  endForecast,
  type ForecastRecord,
  type ForecastResult,
  failForecast,
  findForecast,
  getForecast,
  noteKeeper,
} from '../forecasts/forecasts.js';
import { keptFacts } from '../forecasts/kept-facts.js';
import type { TransferFacts } from '../forecasts/transfer-facts.js';
import { gatherUndo } from '../forecasts/undoing.js';
import { checkHealth, unwellChecks } from '../front/health.js';
import { heldChecks, inPlaceChecks, notHeld } from '../front/held.js';
import { publishEvent } from '../ground/events.js';
import { failureOf } from '../ground/problems.js';
import { takeRevision } from '../requests/revisions.js';
import { libraryOf } from '../stored/snapshots.js';
import type { Installation } from '../transfers/installation.js';

/** What needs a person comes first. */
const ORDER = ['needs-you', 'written', 'kept', 'left-out'];
/** How many past pushes are looked at for what the next one will take. */
const PAST = 9;

/** Computes a forecast and records it. */
export async function computeForecast(installation: Installation, id: string): Promise<void> {
  const { records, environments } = installation;
  const record = await findForecast(records, id);
  if (!record) return;
  if (record.state !== 'computing') {
    // Computed by a worker that died before it became a revision.
    await takeRevision(installation, record);
    return;
  }
  try {
    await countTry(records, id);
    const ends = {
      from: await environments.get(records, record.from_path),
      onto: await environments.get(records, record.onto_path),
    };
    const profile = (await profileOfSite(records, ends.onto.site))?.profile;
    const [source, destination] = [toEngine(ends.from, profile), toEngine(ends.onto, profile)];
    // Asked meanwhile: an address that does not answer takes its time.
    const held = heldChecks(installation, destination);
    const facts =
      record.undoes === null
        ? await gatherFacts(
            installation,
            record.snapshot === null
              ? { environment: source }
              : { snapshot: await libraryOf(installation.folder, ends.from.site).load(record.snapshot), of: source },
            destination,
            record,
          )
        : await gatherUndo(installation, await installation.transfers.get(records, record.undoes), destination, record);
    const checks = [
      ...facts.checks,
      ...(await held),
      ...inPlaceChecks(destination, facts.collector.parts.values()),
      ...unwellChecks(destination.path, await checkHealth(installation, destination)),
    ];
    if (!(await store(installation, record, facts, checks))) return;
    const kept = keptFacts(installation);
    if (kept.keep(id, facts) && kept.worker !== undefined) await noteKeeper(records, id, kept.worker);
    if (record.snapshot === null && record.undoes === null && facts.direction === 'up' && isEverything(record)) {
      const above = await aboveOf(records, environments, ends.from);
      if (above?.path === record.onto_path)
        await environments.update(records, record.from_path, { drift: driftOf(facts, installation.now()) });
    }
  } catch (error) {
    installation.log.warn({ forecast: id, err: error }, 'forecast failed');
    if (!(await failForecast(records, record, failureOf(error)))) return;
  }
  const computed = await getForecast(records, id);
  if (computed.request !== null) await takeRevision(installation, computed);
  const state = computed.state as 'ready' | 'failed';
  await publishEvent(records, { type: 'forecast', forecast: id, site: siteOf(record), onto: record.onto_path, state });
}

const siteOf = ({ onto_path }: ForecastRecord): string => onto_path.split('/')[0] as string;

/** Whether a forecast speaks of everything that waits, rather than of a choice. */
const isEverything = ({ method, wishes }: ForecastRecord): boolean =>
  method === 'merge' && wishes.only.length === 0 && wishes.except.length === 0;

/** @returns false where the forecast is no longer that one: another worker was first, or somebody wished otherwise since */
async function store(
  installation: Installation,
  record: ForecastRecord,
  facts: TransferFacts,
  checks: readonly Check[],
): Promise<boolean> {
  const items = [...facts.collector.items.values()].sort((a, b) => ORDER.indexOf(a.outcome) - ORDER.indexOf(b.outcome));
  const result: ForecastResult = {
    sentence: facts.sentence,
    button: facts.button,
    direction: facts.direction,
    unsettled: facts.unsettled,
    written: facts.written,
    kept: [...facts.kept, ...facts.collector.amounts((item) => item.outcome === 'kept')],
    neverMoves: facts.neverMoves,
    lost: facts.lost,
    unclassified: facts.unclassified,
    parts: [...facts.collector.parts.values()],
    rewrites: facts.rewrites,
    touched: facts.touched,
    tasks: facts.tasks,
    checks: [...checks],
    ...(await fromThePast(installation, record, facts.direction === 'up' ? 'push' : 'pull', checks)),
    baselineAt: facts.baselineAt?.toISOString() ?? null,
    fingerprint: facts.fingerprint,
    itemCount: items.length,
  };
  const isStored = await endForecast(installation, record, result, (trx) =>
    storeItems(trx, installation.folder.keys, record.id, items),
  );
  if (isStored) installation.log.info({ forecast: record.id }, sentenceText(facts.sentence));
  return isStored;
}

/** What the last transfers of a kind onto this environment took: time as a median, and the longest hold. Null before the first. */
async function fromThePast(
  { records, transfers }: Installation,
  { onto_path }: ForecastRecord,
  kind: 'push' | 'pull',
  checks: readonly Check[],
): Promise<Pick<Forecast, 'estimateSeconds' | 'holdMilliseconds'>> {
  const site = onto_path.split('/')[0];
  const past = await transfers.list(records, { site, kind, state: 'done', onto: onto_path, limit: PAST });
  const seconds = past
    .flatMap((one) => (one.started_at && one.ended_at ? [(+one.ended_at - +one.started_at) / 1000] : []))
    .sort((a, b) => a - b);
  const holds = past.flatMap((one) => (typeof one.outcome.heldMs === 'number' ? [one.outcome.heldMs] : []));
  return {
    estimateSeconds: seconds.length === 0 ? null : Math.ceil(seconds[seconds.length >> 1] as number),
    holdMilliseconds: holds.length === 0 || notHeld(checks) ? null : Math.max(...holds),
  };
}
