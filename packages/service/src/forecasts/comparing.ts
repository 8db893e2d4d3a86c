import { createHash, createHmac } from 'node:crypto';
import type { Check, ForecastWishes } from '@tessarion/contract';
import { type ByteString, isChosen, isSchemaId, lowerOf, maskValue, schemaSelectable } from '@tessarion/core';
import {
  type Baseline,
  ChangeRecords,
  compareEnvironments,
  type Environment,
  type EnvironmentComparison,
  HashMemory,
  isUnwritten,
  type SnapshotLibrary,
  type TransferSource,
} from '@tessarion/engine';
import pLimit, { type LimitFunction } from 'p-limit';
import { otherHosts } from '../fleet/other-hosts.js';
import { profileOfSite } from '../fleet/profiles.js';
import { packedBaseline } from '../stored/packing.js';
import { libraryOf, type PackedBaseline } from '../stored/snapshots.js';
import type { Installation } from '../transfers/installation.js';
import { Gathering } from './gathering.js';
import type { TransferFacts, TransferWish } from './transfer-facts.js';

const RANK = { dev: 0, staging: 1, live: 2 } as const;

/** Differences of how tables are made that a person wants the destination to take over. */
const schemaTakes = (wishes: ForecastWishes): Set<string> =>
  new Set(
    Object.entries(wishes.settlements).flatMap(([id, { take }]) =>
      isSchemaId(id) && take === 'source' && isChosen(wishes, schemaSelectable(id)) ? [id] : [],
    ),
  );

/** What a comparison goes by beside its two ends: all of it is on record. */
interface Basis {
  readonly pair: PackedBaseline | undefined;
  readonly edition: string;
  readonly hosts: readonly string[];
  /** A digest of it, of the ends as they are on record, and of what was wished. */
  readonly digest: string;
}

async function basisOf(
  installation: Installation,
  source: TransferSource,
  destination: Environment,
  wish: TransferWish,
): Promise<Basis> {
  const from = 'snapshot' in source ? source.of : source.environment;
  const lower = lowerOf(from, destination);
  const upper = lower === from.path ? destination.path : from.path;
  const pair = 'snapshot' in source ? undefined : await packedBaseline(installation, lower, upper);
  const version = await profileOfSite(installation.records, destination.site);
  const hosts = await otherHosts(installation, destination);
  const digest = createHash('sha256');
  const onRecord = ({ profile: _profile, server, databases, settings, ...rest }: Environment): unknown => ({
    ...rest,
    server: server.reach,
    databases: databases.map(({ name, login, system }) => ({ name, login, system: system.name })),
    settings: [...settings],
  });
  for (const part of [
    onRecord(from),
    onRecord(destination),
    'snapshot' in source ? source.snapshot.id : '',
    pair ?? '',
    [version?.edition ?? '', ...hosts],
    [wish.method, wish.wishes, wish.follows === true],
  ])
    digest.update(`${JSON.stringify(part)}\n`);
  return { pair, edition: version?.edition ?? '', hosts, digest: digest.digest('hex') };
}

/**
 * Compares two environments and gathers everything a forecast says. Read only.
 *
 * @param former what was found before: it is taken as it is where nothing was written since, to either end or on record
 */
export async function gatherFacts(
  installation: Installation,
  source: TransferSource,
  destination: Environment,
  wish: TransferWish,
  former?: TransferFacts,
): Promise<TransferFacts> {
  const basis = await basisOf(installation, source, destination, wish);
  if (former?.standing && former.basis === basis.digest) {
    const ends = 'snapshot' in source ? [destination] : [source.environment, destination];
    if (await isUnwritten(former.standing, ends)) return former;
  }
  return compareNow(installation, source, destination, wish, basis);
}

async function compareNow(
  installation: Installation,
  source: TransferSource,
  destination: Environment,
  wish: TransferWish,
  basis: Basis,
): Promise<TransferFacts> {
  const { pair, hosts, digest } = basis;
  const from = 'snapshot' in source ? source.of : source.environment;
  const direction = directionOf(from, destination);
  const baseline = pair && (await baselineOf(libraryOf(installation.folder, destination.site), pair, from.path));
  const compare = () => compareEnds(installation, source, destination, wish, basis, baseline);
  const comparison = await (pair ? inTurn(`${pair.lower} ${pair.upper}`, compare) : compare());
  const gathering = new Gathering(comparison, from, destination, wish, baseline, hosts);
  const facts = await gathering.facts(source, digest, pair && knownAs(pair));
  if (direction === 'up') facts.checks.push(...(await foreignCheck(installation, from.path)));
  return facts;
}

const directionOf = (from: Environment, destination: Environment): 'up' | 'down' =>
  RANK[from.kind] > RANK[destination.kind] ? 'down' : 'up';

const turns = new Map<string, LimitFunction>();

/** Comparisons of one pair follow each other: what one of them has read and remembers, the next one need not read. */
function inTurn<T>(pair: string, compare: () => Promise<T>): Promise<T> {
  const turn = turns.get(pair) ?? pLimit(1);
  turns.set(pair, turn);
  return turn(compare);
}

/** Compares both ends by what is remembered of them, and remembers what was found. */
async function compareEnds(
  { folder }: Installation,
  source: TransferSource,
  destination: Environment,
  { method, wishes }: TransferWish,
  { pair, edition }: Basis,
  baseline: Baseline | undefined,
): Promise<EnvironmentComparison> {
  const from = 'snapshot' in source ? source.of : source.environment;
  const memories = {
    source: await HashMemory.open(folder.memory(from.path)),
    destination: await HashMemory.open(folder.memory(destination.path)),
  };
  const changes = pair && (await ChangeRecords.open(folder.changes(pair.lower, pair.upper)));
  const maskKey = folder.keys.derive(`mask ${destination.site}`);
  const hash = (value: ByteString): Buffer => createHmac('sha256', maskKey).update(value, 'latin1').digest();
  const comparison = await compareEnvironments({
    source,
    destination,
    baseline,
    library: libraryOf(folder, destination.site),
    memories,
    changes,
    profileVersion: edition,
    method,
    direction: directionOf(from, destination),
    mask: (rule, value) => maskValue(rule, value, hash),
    takes: schemaTakes(wishes),
  });
  memories.source.save();
  memories.destination.save();
  await changes?.save();
  return comparison;
}

/** What both ends had in common, seen from the source. */
async function baselineOf(library: SnapshotLibrary, pair: PackedBaseline, source: string): Promise<Baseline> {
  const below = await library.load(pair.lower_manifest);
  const above = await library.load(pair.upper_manifest);
  const isLowerSource = pair.lower === source;
  return {
    source: isLowerSource ? below : above,
    destination: isLowerSource ? above : below,
    leftOut: pair.left_out,
    isDerived: pair.derived,
    seen: new Set(below.seen ?? []),
    keys: (below.pairs ?? []).map(({ table, lower: down, upper: up }) =>
      isLowerSource ? { table, from: down, to: up } : { table, from: up, to: down },
    ),
  };
}

const knownAs = ({ created_at, lower, upper, lower_manifest, upper_manifest }: PackedBaseline) => ({
  createdAt: created_at,
  ids: { lower, upper, lowerManifest: lower_manifest, upperManifest: upper_manifest },
});

/** What a copy holds that came from another site is said before it goes up. */
async function foreignCheck({ records, environments }: Installation, from: string): Promise<Check[]> {
  const record = await environments.find(records, from);
  if (!record?.foreign_origin) return [];
  const origin = record.foreign_origin;
  const [there, here] = (await Promise.all(
    [origin.split('/')[0], record.site].map((name) => records('site').where({ name }).first('client')),
  )) as ({ client: string } | undefined)[];
  const whose = there && there.client !== here?.client ? `, of another client: ${there.client}` : '';
  return [
    {
      name: 'origin',
      state: 'warning',
      message: `${from} was made of ${origin}${whose}. What it holds came from there, and has nothing in common with ${record.site}.`,
      remedy: `Send only what is meant for ${record.site}: --only KIND:KEY`,
    },
  ];
}
