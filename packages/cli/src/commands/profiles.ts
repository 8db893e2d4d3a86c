import * as fs from 'node:fs/promises';
import { checkProfile } from '@tessarion/core';
import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { print, printJson, printTable, when } from '../output.js';
import { connect, wantsJson } from '../program.js';

/** Commands on profiles. */
export function addProfileCommands(program: Command): void {
  const profile = program.command('profile').description('what kinds of site are made of');
  profile
    .command('check')
    .argument('<file>')
    .description('name every mistake in a profile with its line')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile check quayside.yaml\n  tessarion profile check quayside.yaml --json',
    )
    .action(async (file: string, _options: unknown, command: Command) => {
      const checked = checkProfile(await readText(file));
      if (wantsJson(command)) printJson(checked.ok ? { ok: true, mistakes: [] } : checked);
      if (!checked.ok)
        throw new CliError(
          1,
          `${file} has ${checked.mistakes.length === 1 ? 'a mistake' : `${checked.mistakes.length} mistakes`}.`,
          checked.mistakes
            .map((one) => `line ${one.line}${one.path === '' ? '' : `, ${one.path}`}: ${one.message}`)
            .join('\n'),
          'Correct these lines and check it again.',
        );
      if (!wantsJson(command))
        print(
          `${file} is right: ${checked.profile.title}, ${checked.profile.areas.length} areas, ${Object.values(checked.profile.databases ?? {}).flatMap((one) => Object.keys(one.tables)).length} tables.`,
        );
    });
  profile
    .command('save')
    .argument('<file>')
    .description('save a new version of a profile')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile save quayside.yaml\n  tessarion profile save quayside.yaml --json',
    )
    .action(async (file: string, _options: unknown, command: Command) => {
      const text = await readText(file);
      const checked = checkProfile(text);
      const name = checked.ok ? checked.profile.name : (/^name:\s*([a-z0-9-]+)/m.exec(text)?.[1] ?? 'profile');
      const saved = await (await connect(command)).call('profileSave', { params: { name }, body: { text } });
      if (wantsJson(command)) return printJson(saved);
      print(
        `Saved ${saved.name} version ${saved.version}${saved.sites.length > 0 ? `, used by ${saved.sites.join(', ')}` : ''}.`,
      );
    });
  profile
    .command('list')
    .description('list the profiles')
    .option('--json', 'one JSON document')
    .addHelpText('after', '\nExamples:\n  tessarion profile list\n  tessarion profile list --json')
    .action(async (_options: unknown, command: Command) => {
      const profiles = await (await connect(command)).call('profileList');
      if (wantsJson(command)) return printJson(profiles);
      printTable(
        ['profile', 'version', 'title', 'saved', 'sites'],
        profiles.map((one) => [
          one.name,
          String(one.version),
          one.title,
          when(one.createdAt),
          String(one.sites.length),
        ]),
        [1, 4],
        2,
      );
    });
  profile
    .command('show')
    .argument('<name>')
    .description('print a profile')
    .option('--version-number <N>', 'an older version')
    .option('--json', 'one JSON document')
    .addHelpText(
      'after',
      '\nExamples:\n  tessarion profile show quayside\n  tessarion profile show quayside --version-number 1',
    )
    .action(async (name: string, options: { versionNumber?: string }, command: Command) => {
      const shown = await (await connect(command)).call('profileShow', {
        params: { name },
        query: options.versionNumber === undefined ? {} : { version: Number(options.versionNumber) },
      });
      if (wantsJson(command)) return printJson(shown);
      print(shown.text.trimEnd());
    });
}

async function readText(path: string): Promise<string> {
  try {
    return await fs.readFile(path, 'utf8');
  } catch (error) {
    throw new CliError(
      2,
      `${path} cannot be read.`,
      error instanceof Error ? error.message : String(error),
      'Name a file that exists.',
    );
  }
}
