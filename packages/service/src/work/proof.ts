import type { Check } from '@tessarion/contract';
import {
  calledIn,
  counted,
  type FileChange,
  formatLocation,
  type RowChange,
  sameFile,
  strayAddresses,
  toBytes,
} from '@tessarion/core';
import {
  type CollectedProof,
  type CollectedRows,
  type Environment,
  FileForm,
  proveCollected,
  proveRows,
  readState,
  rewriterOf,
  showPath,
  valueInRow,
} from '@tessarion/engine';
import { otherHosts } from '../fleet/other-hosts.js';
import type { Visited } from '../front/front.js';
import { type PageHealth, pageChecks } from '../front/health.js';
import { readBackOf } from '../stored/read-back.js';
import type { TransferContext } from './context.js';
import { asItTurnedOut, changesOf, filesOf, ownOf } from './recorded-changes.js';

/**
 * Reads the destination again after a transfer, and says point by point what holds: what was written is there, what
 * visitors made is there, nothing of another environment is in it. Nothing is undone for it: somebody may rightly
 * have changed something since.
 */
export async function prove(
  context: TransferContext,
  destination: Environment,
  pages: readonly PageHealth[],
): Promise<Check[]> {
  const collected = context.data.collected ?? [];
  return [
    ...(await rowCheck(context, destination)),
    ...(await fileCheck(context, destination)),
    ...(await collectedChecks(destination, collected)),
    await addressCheck(context, destination),
    ...(destination.kind === 'live' ? [await openCheck(context, destination)] : []),
    ...pageChecks(context.data.health ?? [], pages),
  ];
}

/** The rows of a transfer's change set as they turned out. */
async function* writtenRows(context: TransferContext, database?: string): AsyncGenerator<RowChange> {
  const found = await readBackOf(context.library(), ownOf(context));
  for await (const change of changesOf(context, context.record.id))
    if (change.part === 'row' && (database === undefined || change.database === database))
      yield asItTurnedOut(change, found);
}

async function rowCheck(context: TransferContext, destination: Environment): Promise<Check[]> {
  const sum = { asWritten: 0, untold: 0, unlike: [] as string[] };
  for (const database of destination.databases) {
    const proof = await proveRows(destination, database, writtenRows(context, database.name));
    sum.asWritten += proof.asWritten;
    sum.untold += proof.untold;
    for (const { table, key, columns } of proof.unlike)
      sum.unlike.push(`${table} ${key}${columns.length > 0 ? ` (${columns.join(', ')})` : ''}`);
  }
  if (sum.asWritten + sum.untold + sum.unlike.length === 0) return [];
  const untold = sum.untold > 0 ? ` ${counted(sum.untold, 'row')} without a key cannot be told from others.` : '';
  if (sum.unlike.length === 0)
    return [
      {
        name: 'rows',
        state: 'passed',
        message: `${counted(sum.asWritten, 'row')} read again, each as written.${untold}`,
      },
    ];
  return [
    {
      name: 'rows',
      state: 'warning',
      message: `${counted(sum.asWritten, 'row')} as written; not so: ${named(sum.unlike)}.${untold}`,
      remedy: 'Somebody has changed them since, or the site itself has; look at them there.',
    },
  ];
}

const MOST_NAMED = 5;
const named = (all: readonly string[]): string =>
  `${all.slice(0, MOST_NAMED).join('; ')}${all.length > MOST_NAMED ? `; and ${all.length - MOST_NAMED} more` : ''}`;

async function fileCheck(context: TransferContext, destination: Environment): Promise<Check[]> {
  const files = await filesOf(context, context.record.id, (change) => change);
  if (files.length === 0) return [];
  const unlike: FileChange[] = [];
  const rewriter = rewriterOf(destination);
  for (const change of files)
    if (!sameFile(await readState(destination, change.root, change.path, rewriter), change.after)) unlike.push(change);
  return unlike.length === 0
    ? [{ name: 'files', state: 'passed', message: `${counted(files.length, 'file')} read again, each as written.` }]
    : [
        {
          name: 'files',
          state: 'warning',
          message: `Not as written: ${named(unlike.map((change) => showPath(change.path)))}.`,
          remedy: 'Somebody has changed them since, or the site itself has; look at them there.',
        },
      ];
}

async function collectedChecks(destination: Environment, before: readonly CollectedRows[]): Promise<Check[]> {
  if (before.length === 0) return [];
  const proof = await proveCollected(destination, before);
  const words = ({ table, before: then, now }: CollectedProof): string => `${table} ${then} before, ${now} now`;
  const fewer = proof.filter((one) => one.holds === 'fewer');
  const grown = proof.filter((one) => one.now > one.before);
  const untold = proof.filter((one) => one.holds === 'count');
  const each = proof.length - fewer.length - untold.length;
  const meanwhile = grown.length > 0 ? ` Came meanwhile: ${named(grown.map(words))}.` : '';
  const byCount =
    untold.length > 0
      ? ` No fewer rows than before in ${named(untold.map((one) => one.table))}, where no number tells them apart.`
      : '';
  return [
    fewer.length > 0
      ? {
          name: 'what visitors made',
          state: 'warning',
          message: `Rows of before are gone: ${named(fewer.map(words))}. This transfer deleted none of them.`,
          remedy: 'See who removes such rows: the site itself, or a person.',
        }
      : {
          name: 'what visitors made',
          state: 'passed',
          message: `Each single row of before is there in ${counted(each, 'table')}.${byCount}${meanwhile}`,
        },
  ];
}

async function addressCheck(context: TransferContext, destination: Environment): Promise<Check> {
  const rows: RowChange[] = [];
  const hosts = await otherHosts(context.installation, destination);
  let stray = 0;
  const where: string[] = [];
  const look = (): void => {
    for (const one of strayAddresses(rows.splice(0), hosts)) {
      stray++;
      if (where.length < MOST_NAMED)
        where.push(`${one.host} in ${calledIn(destination.profile, one.table)}.${one.column}`);
    }
  };
  for await (const change of writtenRows(context)) {
    rows.push(change);
    if (rows.length >= 1000) look();
  }
  look();
  return stray === 0
    ? { name: 'addresses', state: 'passed', message: 'No address of another environment is in what was written.' }
    : {
        name: 'addresses',
        state: 'warning',
        message: `${counted(stray, 'value')} with the address of another environment: ${where.join('; ')}${stray > where.length ? '; and more' : ''}.`,
        remedy: 'Correct them where they come from, and push again.',
      };
}

/** Live answers everybody: no gate, no word to search engines to stay away, no marker. */
async function openCheck(context: TransferContext, destination: Environment): Promise<Check> {
  const [address] = destination.place.addresses;
  const record = await context.environmentRecord(destination.path);
  const found: string[] = [];
  if (record.gate !== null) found.push('it has a gate');
  const answer: Visited = address
    ? await context.installation.front.visit(`${formatLocation(address)}/`)
    : { headers: {}, body: '', error: 'it has no address' };
  if (answer.error !== undefined) found.push(`it cannot be asked (${answer.error})`);
  if (/noindex/i.test(String(answer.headers['x-robots-tag'] ?? '')))
    found.push('its answers tell search engines to stay away');
  if (/<meta[^>]+name=["']robots["'][^>]+noindex/i.test(answer.body))
    found.push('its first page tells search engines to stay away');
  if (answer.body.includes('<tsr-marker>')) found.push('its pages carry the marker of a copy');
  for (const wrong of await wrongSettings(destination)) found.push(wrong);
  return found.length === 0
    ? {
        name: 'open to all',
        state: 'passed',
        message: 'No gate, no noindex, no marker; its settings are those of live.',
      }
    : {
        name: 'open to all',
        state: 'failed',
        message: `Not as live should be: ${found.join('; ')}.`,
        remedy: 'Correct it on the environment itself; this transfer wrote no settings.',
      };
}

/** Settings that the profile fixes for a kind of environment, and that hold something else. */
async function wrongSettings(destination: Environment): Promise<string[]> {
  const fixed = (destination.profile?.settings ?? []).flatMap(({ name, values, ...rest }) =>
    values ? [{ name, expected: values[destination.kind], spot: rest.in }] : [],
  );
  const form = new FileForm(destination, rewriterOf(destination));
  const found = new Map<string, string | undefined>();
  for (const { name, spot } of fixed) {
    if ('file' in spot) {
      const [root] = destination.place.roots;
      const content = await destination.server.readFile(`${root?.path}/${toBytes(spot.file)}`);
      found.set(name, form.readSettings(spot.file, content).get(name));
    } else found.set(name, await valueInRow(destination, spot));
  }
  return fixed
    .filter(({ name, expected }) => found.get(name) !== undefined && found.get(name) !== expected)
    .map(({ name }) => `the setting ${name} is not what it is on ${destination.kind}`);
}
