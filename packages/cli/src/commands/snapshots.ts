import type { Client } from '@tessarion/client';
import type { Forecast } from '@tessarion/contract';
import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { count, print, printJson, printTable, size, when } from '../output.js';
import { ask, awaitForecast, connect, finish, printForecast, readPath, wantsJson } from '../program.js';
import { ONLY } from './choosing.js';
import { type Acting, acting, examples, json } from './options.js';

/** Commands on snapshots. */
export function addSnapshots(program: Command): void {
  const snapshot = program.command('snapshot').description('immutable records of an environment at one moment');
  examples(
    acting(snapshot.command('take').argument('<site/name>').description('take a snapshot').option('--reason <TEXT>')),
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
        .option('--site <NAME>')
        .option('--env <SITE/NAME>'),
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
      snapshot.command('remove').argument('<id>').description('remove a snapshot; only what no other shares is freed'),
    ),
    'tessarion snapshot remove s-8k2m4q9x1c',
    'tessarion snapshot remove s-8k2m4q9x1c --json',
  ).action(async (id: string, _options: unknown, command: Command) => {
    const freed = await (await connect(command)).call('snapshotRemove', { params: { id } });
    if (wantsJson(command)) return printJson(freed);
    print(`Removed; ${count(freed.blobs)} parts, ${size(freed.bytes)} freed.`);
  });
  examples(
    acting(
      snapshot
        .command('restore')
        .argument('<id>')
        .description('restore a snapshot onto an environment')
        .requiredOption('--onto <SITE/NAME>')
        .option('--confirm <SITE/NAME>', 'names a live destination in full')
        .option('--urgent <REASON>', 'onto live past approval; marked for ever')
        .option('--override <REASON>', 'outside a window or in a freeze; marked for ever')
        .option('--only <NAME...>', ONLY)
        .option('--except <NAME...>', 'move everything but these')
        .option('--yes'),
    ),
    'tessarion snapshot restore s-8k2m4q9x1c --onto threadmill/staging --only page:7',
    'tessarion snapshot restore s-8k2m4q9x1c --onto threadmill/live --confirm threadmill/live',
  ).action(async (id: string, options: Acting & RestoreOptions, command: Command) => {
    const client = await connect(command);
    const { environment } = readPath(options.onto);
    const { only = [], except = [] } = options;
    const chosen = only.length + except.length > 0;
    const past = {
      ...(options.urgent === undefined ? {} : { urgent: options.urgent }),
      ...(options.override === undefined ? {} : { override: options.override }),
    };
    const forecast = chosen ? await forecastRestore(client, id, options.onto, { only, except }) : undefined;
    if (forecast && !wantsJson(command)) await printForecast(client, forecast);
    if (forecast && forecast.written.length === 0) {
      print(`Nothing of what was chosen is other than in ${id}.`);
      return;
    }
    const confirm =
      options.confirm ??
      (environment === 'live'
        ? await ask(
            forecast
              ? `${forecast.button}. Type ${options.onto}: `
              : `Restore ${id} onto live; newer authored work there goes, what visitors made stays. Type ${options.onto}: `,
            `--confirm ${options.onto}`,
          )
        : undefined);
    if (
      environment !== 'live' &&
      !options.yes &&
      !/^y/i.test(await ask(`Restore ${id} onto ${options.onto}? (yes/no) `, '--yes'))
    )
      throw new CliError(3, 'Nothing was written.', 'It was not confirmed.', '');
    if (forecast) {
      const body = { forecast: forecast.id, ...(confirm === undefined ? {} : { confirm }), ...past };
      await finish(
        client,
        forecast.direction === 'up'
          ? await client.call('pushCreate', { body })
          : await client.call('pullCreate', { body: { forecast: forecast.id } }),
        options,
      );
      return;
    }
    await finish(
      client,
      await client.call('restoreCreate', {
        body: { snapshot: id, onto: options.onto, ...(confirm === undefined ? {} : { confirm }), ...past },
      }),
      options,
    );
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

/** What bringing back a part of a snapshot would write. */
async function forecastRestore(
  client: Client,
  id: string,
  onto: string,
  wishes: { readonly only: string[]; readonly except: string[] },
): Promise<Forecast> {
  const snapshots = await client.call('snapshotList', { query: { site: readPath(onto).site } });
  const environment = snapshots.find((one) => one.id === id)?.environment;
  if (environment === undefined)
    throw new CliError(
      3,
      `There is no snapshot ${id} of this site.`,
      '',
      'List what there is: tessarion snapshot list',
    );
  return awaitForecast(
    client,
    await client.call('forecastCreate', { body: { from: environment, onto, snapshot: id, wishes } }),
  );
}
