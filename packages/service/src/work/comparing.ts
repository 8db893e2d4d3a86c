import { createHash } from 'node:crypto';
import type { Check, Forecast } from '@tessarion/contract';
import {
  type Change,
  ItemCollector,
  type Profile,
  pluralOf,
  pushSentence,
  type RowChange,
  type SentencePiece,
  shortSentence,
} from '@tessarion/core';
import {
  type Baseline,
  comparePush,
  type Environment,
  HashMemory,
  type Misfit,
  misfitsOfChanges,
  misfitText,
  type PushSource,
  profileName,
  rewriterOf,
} from '@tessarion/engine';
import { profileOfSite } from '../records/environments.js';
import { libraryOf } from '../records/snapshots.js';
import type { Installation } from './context.js';
import { packedBaseline } from './packing.js';
import { lowerOf } from './pair.js';

/** What a push would do, as far as the comparison tells. */
export interface PushFacts {
  readonly collector: ItemCollector;
  readonly changes: Change[];
  readonly kept: { count: number; kind: string; plural: string }[];
  readonly neverMoves: { table: string; because: string }[];
  readonly checks: Check[];
  readonly sentence: SentencePiece[];
  readonly button: string;
  readonly written: Forecast['written'];
  readonly lost: Forecast['lost'];
  readonly baselineAt: Date | undefined;
  readonly baselineIds: { lower: string; upper: string; lowerManifest: string; upperManifest: string } | undefined;
}

const digest = (text: string): string => createHash('sha256').update(text).digest('hex').slice(0, 32);

/** Tables are named `schema.table` in change sets, and without the default schema in profiles. */
const profileTable = (fullName: string): string => {
  const [schema, ...name] = fullName.split('.');
  return profileName({ schema: schema as string, name: name.join('.') });
};

/** Compares for a push and gathers everything a forecast says. Read only. */
export async function gatherPushFacts(
  installation: Installation,
  source: PushSource,
  destination: Environment,
): Promise<PushFacts> {
  const { records, folder } = installation;
  const from = 'snapshot' in source ? source.of : source.environment;
  const library = libraryOf(folder, destination.site);
  const pair =
    'snapshot' in source
      ? undefined
      : await packedBaseline(
          installation,
          lowerOf(from, destination),
          lowerOf(from, destination) === from.path ? destination.path : from.path,
        );
  const isLowerSource = pair?.lower === from.path;
  const baseline: Baseline | undefined = pair && {
    source: await library.load(isLowerSource ? pair.lower_manifest : pair.upper_manifest),
    destination: await library.load(isLowerSource ? pair.upper_manifest : pair.lower_manifest),
    leftOut: pair.left_out,
  };
  const version = await profileOfSite(records, destination.site);
  const memories = {
    source: await HashMemory.open(folder.memory(from.path)),
    destination: await HashMemory.open(folder.memory(destination.path)),
  };
  const profile = destination.profile;
  const collector = new ItemCollector(profile, digest);
  const facts = {
    changes: [] as Change[],
    kept: [] as PushFacts['kept'],
    neverMoves: [] as PushFacts['neverMoves'],
    checks: [] as Check[],
  };

  for await (const finding of comparePush({
    source,
    destination,
    baseline,
    library,
    memories,
    profileVersion: `${version?.name}/${version?.version}`,
  })) {
    switch (finding.type) {
      case 'row': {
        const { change, row, overwritesOwnWork } = finding.difference;
        collector.addRow(profileTable(change.table), change, row, overwritesOwnWork);
        facts.changes.push(change);
        break;
      }
      case 'file':
        collector.addFile(finding.difference.area, finding.difference.change, finding.difference.overwritesOwnWork);
        facts.changes.push(finding.difference.change);
        break;
      case 'kept':
        collector.addKept(
          profileTable(finding.table),
          finding.key,
          finding.row,
          `${finding.referrers} rows of ${profileTable(finding.referredBy)} refer to it`,
        );
        break;
      case 'collected':
        if (finding.more > 0) facts.kept.push(amountOfTable(profile, finding.table, finding.more));
        break;
      case 'never-moves':
        facts.neverMoves.push({ table: finding.table, because: finding.because });
        break;
      case 'unclassified':
        facts.checks.push({
          name: 'unclassified tables',
          state: 'failed',
          message: `${finding.table} changed on ${from.path} (${finding.rows} rows), and nobody has said what class it is.`,
          remedy: `Give ${finding.table} a class in the profile.`,
        });
        break;
      case 'schema':
        facts.checks.push({
          name: 'schema',
          state: 'failed',
          message: `The schemas differ: ${finding.message}.`,
          remedy: 'Bring both ends to the same schema first.',
        });
        break;
    }
  }
  await memories.source.save();
  await memories.destination.save();
  if (facts.checks.length === 0)
    facts.checks.push({ name: 'schema', state: 'passed', message: 'Both ends have the same tables and columns.' });

  if (!facts.checks.some((check) => check.state === 'failed'))
    facts.checks.push(await checkFit(destination, facts.changes));

  const written = collector.amounts((item) => item.outcome === 'written');
  const lost = collector.amounts((item) => item.outcome === 'written' && item.overwrites);
  const titled = facts.kept.filter((one) => !one.kind.startsWith('row of '));
  const stay = (titled.length > 0 ? titled : facts.kept).toSorted((a, b) => b.count - a.count).slice(0, 3);
  const sentence = {
    from:
      'snapshot' in source
        ? `${from.path} at ${source.snapshot.takenAt.slice(0, 16).replace('T', ' ')} UTC`
        : from.path,
    onto: destination.path,
    written,
    stay,
    lost,
    collisions: 0,
  };
  return {
    collector,
    ...facts,
    written,
    lost,
    sentence: pushSentence(sentence),
    button: shortSentence(sentence),
    baselineAt: pair?.created_at,
    baselineIds: pair && {
      lower: pair.lower,
      upper: pair.upper,
      lowerManifest: pair.lower_manifest,
      upperManifest: pair.upper_manifest,
    },
  };
}

/** Tries what would be written against the destination's columns, constraints and unique values. */
async function checkFit(destination: Environment, changes: readonly Change[]): Promise<Check> {
  const rewriter = rewriterOf(destination);
  const found: Misfit[] = [];
  for (const { name, login } of destination.databases) {
    const rows = changes.filter((change): change is RowChange => change.part === 'row' && change.database === name);
    found.push(...(await misfitsOfChanges(login, rows, rewriter)).found);
  }
  return fitCheck(
    found,
    `Everything that is written fits ${destination.path}.`,
    `Correct it where it comes from, or make room for it on ${destination.path}.`,
  );
}

/** @param remedy what to do when something was found */
export function fitCheck(found: readonly Misfit[], passed: string, remedy: string): Check {
  if (found.length === 0) return { name: 'values', state: 'passed', message: passed };
  const named = found.slice(0, SHOWN_MISFITS).map(misfitText).join('; ');
  const more = found.length > SHOWN_MISFITS ? `; and ${found.length - SHOWN_MISFITS} more` : '';
  return { name: 'values', state: 'failed', message: `What would not fit: ${named}${more}.`, remedy };
}

const SHOWN_MISFITS = 5;

function amountOfTable(
  profile: Profile | undefined,
  table: string,
  count: number,
): { count: number; kind: string; plural: string } {
  const item = (profile?.items ?? []).find((one) => 'table' in one && one.table === table);
  const kind = item?.kind ?? `row of ${table}`;
  return { count, kind, plural: item ? pluralOf(profile, kind) : `rows of ${table}` };
}
