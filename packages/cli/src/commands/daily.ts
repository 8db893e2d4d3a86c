import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { print, printJson } from '../output.js';
import { ask, awaitForecast, chooseEnds, connect, finish, printForecast, readPath, wantsJson } from '../program.js';
import { reportEnd, watchTransfer } from '../watch.js';

interface Ends {
  readonly from?: string;
  readonly onto?: string;
  readonly snapshot?: string;
  readonly confirm?: string;
  readonly yes?: boolean;
  readonly detach?: boolean;
  readonly json?: boolean;
  readonly acceptTrace?: string[];
}

/** Asks for the destination's full name onto live, and for a yes otherwise. */
async function confirmed(onto: string, options: Ends, button: string): Promise<string | undefined> {
  const { environment, site } = readPath(onto);
  if (options.confirm !== undefined) return options.confirm;
  if (environment === 'live') return ask(`${button}. Type ${site}/${environment}: `, `--confirm ${onto}`);
  if (options.yes) return undefined;
  const answer = await ask(`${button}? (yes/no) `, '--yes');
  if (!/^y(es)?$/i.test(answer)) throw new CliError(3, 'Nothing was written.', 'It was not confirmed.', '');
  return undefined;
}

/** The plain verbs of every day. */
export function addDailyCommands(program: Command): void {
  const ends = (command: Command): Command =>
    command
      .option('--from <SITE/NAME>', 'environment that things come from')
      .option('--onto <SITE/NAME>', 'environment that things are written onto');
  const acting = (command: Command): Command =>
    command
      .option('--confirm <SITE/NAME>', 'names a live destination in full')
      .option('--yes', 'answers every other question')
      .option('--detach', 'print the id and go on in the background')
      .option('--json', 'one JSON document');

  ends(program.command('forecast').description('show what a push would do, without doing it'))
    .option('--snapshot <ID>', 'take a snapshot of --from as the source')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion forecast --from threadmill/staging --onto threadmill/live\n  tessarion forecast --from threadmill/staging --json',
    )
    .action(async (options: Ends, command: Command) => {
      const client = await connect(command);
      const chosen = await chooseEnds(client, options, 'push');
      const forecast = await awaitForecast(
        client,
        await client.call('forecastCreate', {
          body: { ...chosen, ...(options.snapshot === undefined ? {} : { snapshot: options.snapshot }) },
        }),
      );
      if (wantsJson(command)) printJson(forecast);
      else await printForecast(client, forecast);
    });

  acting(ends(program.command('push').description('write an environment’s authored work onto the one above it')))
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion push --from threadmill/staging --onto threadmill/live\n  tessarion push --from threadmill/staging --confirm threadmill/live --detach',
    )
    .action(async (options: Ends, command: Command) => {
      const client = await connect(command);
      const chosen = await chooseEnds(client, options, 'push');
      const forecast = await awaitForecast(client, await client.call('forecastCreate', { body: chosen }));
      if (!wantsJson(command)) await printForecast(client, forecast);
      if (forecast.written.length === 0) {
        if (wantsJson(command)) printJson(forecast);
        else print('Nothing to write.');
        return;
      }
      const confirm = await confirmed(chosen.onto, options, forecast.button);
      await finish(
        client,
        await client.call('pushCreate', {
          body: { forecast: forecast.id, ...(confirm === undefined ? {} : { confirm }) },
        }),
        options,
      );
    });

  acting(
    ends(
      program.command('reset').description('make a copy its source’s double again; work that exists only there goes'),
    ),
  )
    .option('--accept-trace <NAME...>', 'traces of the source that may stay in the copy')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion reset --from threadmill/live --onto threadmill/staging\n  tessarion reset --onto threadmill/staging --yes',
    )
    .action(async (options: Ends, command: Command) => {
      const client = await connect(command);
      const chosen = await chooseEnds(client, options, 'reset');
      await confirmed(
        chosen.onto,
        options,
        `Make ${chosen.onto} the double of ${chosen.from} again; work that exists only there goes`,
      );
      await finish(
        client,
        await client.call('resetCreate', {
          body: { ...chosen, ...(options.acceptTrace === undefined ? {} : { acceptTraces: options.acceptTrace }) },
        }),
        options,
      );
    });

  acting(
    program
      .command('undo')
      .argument('<transfer>', 'id of a push or restore')
      .description('take back what a transfer wrote; later changes by others stay'),
  )
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion undo t-8k2m4q9x1c\n  tessarion undo t-8k2m4q9x1c --confirm threadmill/live',
    )
    .action(async (id: string, options: Ends, command: Command) => {
      const client = await connect(command);
      const transfer = await client.call('transferShow', { params: { id } });
      if (!wantsJson(command)) print(transfer.sentence.map((piece) => piece.text).join(''));
      const confirm = await confirmed(transfer.onto, options, `Take this back from ${transfer.onto}`);
      await finish(
        client,
        await client.call('transferUndo', { params: { id }, body: confirm === undefined ? {} : { confirm } }),
        options,
      );
    });

  program
    .command('watch')
    .argument('<transfer>')
    .description('follow a transfer to its end')
    .option('--json', 'one JSON document at the end')
    .addHelpText('after', '\nExamples:\n  tessarion watch t-8k2m4q9x1c\n  tessarion watch t-8k2m4q9x1c --json')
    .action(async (id: string, _options: unknown, command: Command) => {
      const transfer = await watchTransfer(await connect(command), id);
      if (wantsJson(command)) printJson(transfer);
      if (!wantsJson(command) || transfer.state !== 'done') reportEnd(transfer);
    });

  program
    .command('stop')
    .argument('<transfer>')
    .description('stop a transfer before its switch; everything is put back')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion stop t-8k2m4q9x1c\n  tessarion stop t-8k2m4q9x1c --url http://127.0.0.1:7070',
    )
    .action(async (id: string, _options: unknown, command: Command) => {
      const client = await connect(command);
      await client.call('transferStop', { params: { id } });
      const transfer = await watchTransfer(client, id);
      print(`${id} is ${transfer.state}.`);
    });
}
