import { Client, keepingCookie, ServiceProblem } from '@tessarion/client';
import { sendByNode } from '@tessarion/client/node';
import type { Person } from '@tessarion/contract';
import { PERMISSIONS, type Permission } from '@tessarion/core';
import { type Command, Option } from 'commander';
import { bold, cut, print, printJson, printTable, when } from '../output.js';
import { ask, askHidden, connect, wantsJson } from '../program.js';
import { readSettings, saveSettings } from '../settings.js';
import { examples, json, wholeNumber } from './options.js';

interface TokenOptions {
  readonly days: number;
  readonly untilEnded?: true;
  readonly may?: Permission[];
  readonly for?: string;
}

/** Signing in, tokens and configuration. */
export function addOwn(program: Command): void {
  program
    .command('sign-in')
    .description('sign in and keep a token for the next commands')
    .option('--mail <ADDRESS>', 'mail address of your account; asked for without')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion sign-in --url http://127.0.0.1:7070\n  TESSARION_PASSWORD=… tessarion sign-in --mail maren.brask@copperlane.example',
    )
    .action(async (options: { mail?: string }, command: Command) => {
      const [url] = await readSettings(command.optsWithGlobals());
      const mail = options.mail ?? (await ask('Mail address: ', '--mail'));
      const password =
        process.env.TESSARION_PASSWORD ?? (await askHidden('Password: ', 'the variable TESSARION_PASSWORD'));
      const client = new Client({ url: url?.value ?? '', send: keepingCookie(sendByNode) });
      const person = await signIn(client, mail, password);
      const token = await client.call('tokenCreate', { body: { name: 'command line', days: 90 } });
      await client.call('signOut');
      print(
        `Signed in as ${person.name}; the token stands in ${await saveSettings(client.url, token.value)} and is valid for 90 days.`,
      );
    });

  const token = program.command('token').description('your own tokens');
  examples(
    json(
      token
        .command('create')
        .argument('<name>', 'what it is for')
        .description('make a token; its value is shown once')
        .option('--days <N>', 'how long it is valid', wholeNumber, 90)
        .option('--until-ended', 'it has no end of its own')
        .addOption(
          new Option('--may <PERMISSION...>', 'nothing but this of what you may').choices(Object.keys(PERMISSIONS)),
        )
        .option('--for <SCOPE>', 'only for client:NAME, a site, or site/name'),
    ),
    'tessarion token create night-pull --may site.read copy.work --for threadmill --days 365',
    'tessarion token create laptop --json',
  ).action(async (name: string, options: TokenOptions, command: Command) => {
    const { days, untilEnded, may, for: scope } = options;
    const made = await (await connect(command)).call('tokenCreate', {
      body: {
        name,
        days: untilEnded ? null : days,
        ...(may === undefined ? {} : { permissions: may }),
        ...(scope === undefined ? {} : { scope }),
      },
    });
    if (wantsJson(command)) return printJson(made);
    print(made.value);
  });
  token
    .command('list')
    .option('--json', 'one JSON document')
    .description('list your tokens')
    .addHelpText('after', '\nExamples:\n  tessarion token list\n  tessarion token list --json')
    .action(async (_options: unknown, command: Command) => {
      const tokens = await (await connect(command)).call('tokenList');
      if (wantsJson(command)) return printJson(tokens);
      printTable(
        ['id', 'name', 'valid until', 'last used', 'for', 'may'],
        tokens.map((one) => [
          one.id,
          cut(one.name, 20),
          when(one.expiresAt),
          when(one.lastUsedAt),
          cut(one.scope, 20),
          one.permissions?.join(' ') ?? 'all that you may',
        ]),
        [],
        5,
      );
    });
  token
    .command('remove')
    .argument('<id>')
    .description('end a token')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion token remove k-8k2m4q9x1c\n  tessarion token remove k-8k2m4q9x1c --url http://127.0.0.1:7070',
    )
    .action(async (id: string, _options: unknown, command: Command) => {
      await (await connect(command)).call('tokenRemove', { params: { id } });
      print(`${id} is ended.`);
    });

  program
    .command('config')
    .description('print the effective settings and where each came from')
    .option('--json', 'one JSON document')
    .addHelpText('after', '\nExamples:\n  tessarion config\n  tessarion config --json')
    .action(async (_options: unknown, command: Command) => {
      const settings = (await readSettings(command.optsWithGlobals())).map((one) => ({
        ...one,
        value: one.name === 'token' && one.value !== undefined ? `${one.value.slice(0, 6)}…` : one.value,
      }));
      if (wantsJson(command)) return printJson(settings);
      printTable(
        ['setting', 'value', 'from'],
        settings.map((one) => [bold(one.name), one.value ?? '–', one.source]),
      );
    });
}

/** Signs in, and asks for a code where somebody has a second factor. */
async function signIn(client: Client, mail: string, password: string): Promise<Person> {
  const given = process.env.TESSARION_CODE;
  try {
    return await client.call('signIn', { body: { mail, password, ...(given === undefined ? {} : { code: given }) } });
  } catch (error) {
    if (!(error instanceof ServiceProblem) || error.problem.type !== 'tessarion:second-factor' || given !== undefined)
      throw error;
    const code = await ask('Code of your second factor: ', 'the variable TESSARION_CODE');
    return client.call('signIn', { body: { mail, password, code } });
  }
}
