import { createHmac } from 'node:crypto';
import type { Check, ForecastWishes } from '@tessarion/contract';
import { type ByteString, isChosen, isSchemaId, lowerOf, maskValue, schemaSelectable } from '@tessarion/core';
import {
  type Baseline,
  ChangeRecords,
  compareEnvironments,
  type Environment,
  HashMemory,
  type TransferSource,
} from '@tessarion/engine';
import { otherHosts } from '../fleet/other-hosts.js';
import { profileOfSite } from '../fleet/profiles.js';
import { packedBaseline } from '../stored/packing.js';
import { libraryOf } from '../stored/snapshots.js';
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

/** Compares two environments and gathers everything a forecast says. Read only. */
export async function gatherFacts(
  installation: Installation,
  source: TransferSource,
  destination: Environment,
  wish: TransferWish,
): Promise<TransferFacts> {
  const { records, folder } = installation;
  const from = 'snapshot' in source ? source.of : source.environment;
  const direction = RANK[from.kind] > RANK[destination.kind] ? 'down' : 'up';
  const library = libraryOf(folder, destination.site);
  const lower = lowerOf(from, destination);
  const upper = lower === from.path ? destination.path : from.path;
  const pair = 'snapshot' in source ? undefined : await packedBaseline(installation, lower, upper);
  let baseline: Baseline | undefined;
  if (pair) {
    const below = await library.load(pair.lower_manifest);
    const above = await library.load(pair.upper_manifest);
    const isLowerSource = pair.lower === from.path;
    baseline = {
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
  const version = await profileOfSite(records, destination.site);
  const memories = {
    source: await HashMemory.open(folder.memory(from.path)),
    destination: await HashMemory.open(folder.memory(destination.path)),
  };
  const changes = pair && (await ChangeRecords.open(folder.changes(lower, upper)));
  const maskKey = folder.keys.derive(`mask ${destination.site}`);
  const hash = (value: ByteString): Buffer => createHmac('sha256', maskKey).update(value, 'latin1').digest();
  const comparison = await compareEnvironments({
    source,
    destination,
    baseline,
    library,
    memories,
    changes,
    profileVersion: version?.edition ?? '',
    method: wish.method,
    direction,
    mask: (rule, value) => maskValue(rule, value, hash),
    takes: schemaTakes(wish.wishes),
  });
  await memories.source.save();
  await memories.destination.save();
  await changes?.save();
  const gathering = new Gathering(
    comparison,
    from,
    destination,
    wish,
    baseline,
    await otherHosts(installation, destination),
  );
  const facts = await gathering.facts(
    source,
    pair && {
      createdAt: pair.created_at,
      ids: {
        lower: pair.lower,
        upper: pair.upper,
        lowerManifest: pair.lower_manifest,
        upperManifest: pair.upper_manifest,
      },
    },
  );
  if (direction === 'up') facts.checks.push(...(await foreignCheck(installation, from.path)));
  return facts;
}

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
