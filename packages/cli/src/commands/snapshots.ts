import type { Client } from '@tessarion/client';
import type { Forecast, Snapshot } from '@tessarion/contract';
import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { count, print, printJson, printTable, size, when } from '../output.js';
import {
  awaitForecast,
  confirming,
  connect,
  finish,
  mustSayYes,
  printForecast,
  readPath,
  wantsJson,
} from '../program.js';
import { ONLY } from './choosing.js';
import { type Acting, acting, examples, json } from './options.js';

/** Commands on snapshots. */
export function addSnapshots(program: Command): void {
  const snapshot = program.command('snapshot').description('immutable records of an environment at one moment');
  examples(
    acting(
      snapshot
        .command('take')
        .argument('<site/name>')
        .description('take a snapshot')
        .option('--reason <TEXT>', 'why it is taken'),
    ),
    'tessarion snapshot take threadmill/live',
    'tessarion snapshot take threadmill/live --reason "before the sale"',
  ).action(async (path: string, options: Acting & { reason?: string }, command: Command) => {
    const client = await connect(command);
    await finish(
      client,
      await client.call('snapshotTake', {
        body: { environment: path, ...(options.reason === undefined ? {} : { reason: options.reason }) },
      }),
      options,
    );
  });
  examples(
    json(
      snapshot
        .command('list')
        .description('list snapshots, newest first')
        .option('--site <NAME>', 'of a site')
        .option('--env <SITE/NAME>', 'of an environment'),
    ),
    'tessarion snapshot list --site threadmill',
    'tessarion snapshot list --env threadmill/live --json',
  ).action(async (options: { site?: string; env?: string }, command: Command) => {
    const snapshots = await (await connect(command)).call('snapshotList', {
      query: {
        ...(options.site === undefined ? {} : { site: options.site }),
        ...(options.env === undefined ? {} : { environment: options.env }),
      },
    });
    if (wantsJson(command)) return printJson(snapshots);
    if (snapshots.length === 0) return print('No snapshots yet. Take one: tessarion snapshot take SITE/NAME');
    printTable(
      ['id', 'of', 'taken', 'files', 'rows', 'size', 'added', 'state', 'reason'],
      snapshots.map((one) => [
        one.id,
        one.environment,
        when(one.takenAt),
        count(one.files),
        count(one.rows),
        size(one.bytes),
        size(one.addedBytes),
        one.damage.length > 0 ? 'damaged' : one.verifiedAt ? 'whole' : '',
        one.reason,
      ]),
      [3, 4, 5, 6],
      8,
    );
  });
  examples(
    json(snapshot.command('verify').argument('<id>').description('read every part again and name what is damaged')),
    'tessarion snapshot verify s-8k2m4q9x1c',
    'tessarion snapshot verify s-8k2m4q9x1c --json',
  ).action(async (id: string, _options: unknown, command: Command) => {
    const one = await (await connect(command)).call('snapshotVerify', { params: { id } });
    if (wantsJson(command)) printJson(one);
    if (one.damage.length === 0)
      return wantsJson(command) ? undefined : print(`${id} is whole: every part was read and agrees with its hash.`);
    throw new CliError(
      1,
      `${id} is damaged.`,
      one.damage.map((damage) => `${damage.holds}: ${damage.message}`).join('\n'),
      'Take a new snapshot, or restore the store from a backup.',
    );
  });
  examples(
    json(
      snapshot
        .command('remove')
        .argument('<id>')
        .description('remove a snapshot; only what no other shares is freed')
        .option('--yes', 'do not ask'),
    ),
    'tessarion snapshot remove s-8k2m4q9x1c',
    'tessarion snapshot remove s-8k2m4q9x1c --yes --json',
  ).action(async (id: string, options: { yes?: boolean }, command: Command) => {
    const client = await connect(command);
    const one = await findSnapshot(client, id);
    const goes = `${id} of ${one.environment}, taken ${when(one.takenAt)}${one.reason === '' ? '' : ` (${one.reason})`}: ${count(one.files)} files, ${count(one.rows)} rows${one.isOnly ? `; it is the only one of ${one.environment}` : ''}`;
    if (options.yes && !wantsJson(command)) print(`Goes: ${goes}.`);
    if (!options.yes) await mustSayYes(`Remove ${goes}?`, 'Nothing was removed.');
    const freed = await client.call('snapshotRemove', { params: { id } });
    if (wantsJson(command)) return printJson(freed);
    print(`Removed; ${count(freed.blobs)} parts, ${size(freed.bytes)} freed.`);
  });
  examples(
    acting(
      snapshot
        .command('restore')
        .argument('<id>')
        .description('restore a snapshot onto an environment')
        .requiredOption('--onto <SITE/NAME>', 'where it is brought back')
        .option('--confirm <SITE/NAME>', 'names a live destination in full')
        .option('--urgent <REASON>', 'onto live past approval; marked for ever')
        .option('--override <REASON>', 'outside a window or in a freeze; marked for ever')
        .option('--only <NAME...>', ONLY)
        .option('--except <NAME...>', 'move everything but these')
        .option('--yes', 'answers the question, where it is not live'),
    ),
    'tessarion snapshot restore s-8k2m4q9x1c --onto threadmill/staging --only page:7',
    'tessarion snapshot restore s-8k2m4q9x1c --onto threadmill/live --confirm threadmill/live',
  ).action(async (id: string, options: Acting & RestoreOptions, command: Command) => {
    const client = await connect(command);
    const { environment } = readPath(options.onto);
    const { only = [], except = [], yes, onto } = options;
    const isWhole = only.length + except.length === 0;
    const past = {
      ...(options.urgent === undefined ? {} : { urgent: options.urgent }),
      ...(options.override === undefined ? {} : { override: options.override }),
    };
    const forecast = await forecastRestore(client, id, onto, { only, except });
    if (!wantsJson(command)) await printForecast(client, forecast);
    if (forecast.written.length === 0 && (!isWhole || environment === 'live')) {
      if (wantsJson(command)) printJson(forecast);
      else print(`Nothing ${isWhole ? '' : 'of what was chosen '}is other than in ${id}.`);
      return;
    }
    const all = isWhole ? `All of ${onto} becomes as it was in ${id}, also what visitors of the copy made. ` : '';
    if (environment !== 'live' && !yes) await mustSayYes(`${all}${forecast.button}?`, 'Nothing was written.');
    const asked = { given: options.confirm, question: forecast.button, thing: onto };
    const transfer = await confirming(asked, (confirm) => {
      const body = { forecast: forecast.id, ...(confirm === undefined ? {} : { confirm }), ...past };
      if (isWhole || environment === 'live')
        return client.call('restoreCreate', { body: { snapshot: id, onto, ...body } });
      return forecast.direction === 'up'
        ? client.call('pushCreate', { body })
        : client.call('pullCreate', { body: { forecast: forecast.id } });
    });
    await finish(client, transfer, options);
  });
}

interface RestoreOptions {
  readonly onto: string;
  readonly confirm?: string;
  readonly yes?: boolean;
  readonly only?: string[];
  readonly except?: string[];
  readonly urgent?: string;
  readonly override?: string;
}

/** What bringing back a snapshot, or a part of it, would write. */
async function forecastRestore(
  client: Client,
  id: string,
  onto: string,
  wishes: { readonly only: string[]; readonly except: string[] },
): Promise<Forecast> {
  const { environment } = await findSnapshot(client, id, readPath(onto).site);
  return awaitForecast(
    client,
    await client.call('forecastCreate', { body: { from: environment, onto, snapshot: id, wishes } }),
  );
}

/** @throws {CliError} where there is none */
async function findSnapshot(client: Client, id: string, site?: string): Promise<Snapshot & { isOnly: boolean }> {
  const all = await client.call('snapshotList', { query: site === undefined ? {} : { site } });
  const found = all.find((one) => one.id === id);
  if (!found)
    throw new CliError(
      1,
      `There is no snapshot ${id}${site === undefined ? '' : ` of ${site}`}.`,
      '',
      `List what there is: tessarion snapshot list${site === undefined ? '' : ` --site ${site}`}`,
    );
  return { ...found, isOnly: all.filter((one) => one.environment === found.environment).length === 1 };
}
