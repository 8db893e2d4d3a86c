import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { print } from '../output.js';
import { examples } from './options.js';

const dataOption = (command: Command): Command =>
  command.option('--data <FOLDER>', 'the data folder of the service', process.env.TESSARION_DATA ?? '.tessarion');

const failed = (what: string) => (error: unknown) => {
  throw new CliError(
    1,
    what,
    error instanceof Error ? error.message : String(error),
    'How keys are kept: docs/security.md',
  );
};

/** Commands on the master key; they work on the data folder itself, beside a service or without one. */
export function addKeys(program: Command): void {
  const key = program.command('key').description('the master key, by which everything secret is opened');
  examples(
    dataOption(key.command('exchange').description('exchange the master key for a new one')).option(
      '--new-key <FILE>',
      'a file that holds the new one, where TESSARION_KEY_FILE names the present one',
    ),
    'tessarion key exchange --data /var/lib/tessarion',
    'tessarion key exchange --data /var/lib/tessarion --new-key /etc/tessarion/2027.key',
  ).action(async (options: { data: string; newKey?: string }) => {
    const { exchangeMasterKey } = await import('@tessarion/service');
    const file = await exchangeMasterKey(options.data, options.newKey).catch(failed('The master key is as it was.'));
    if (options.newKey === undefined) {
      print(`${file} holds a new master key; the former one opens nothing any more.`);
      print('Copy it to where the former one was kept.');
    } else print(`Start the service with TESSARION_KEY_FILE=${file}: from then on the former one opens nothing.`);
  });
  examples(
    dataOption(key.command('check').description('see whether a file holds the master key of a data folder')).argument(
      '<file>',
      'such as the copy that is kept for the worst',
    ),
    'tessarion key check --data /var/lib/tessarion /mnt/safe/master.key',
    'tessarion key check /run/credentials/tessarion.service/master.key',
  ).action(async (file: string, options: { data: string }) => {
    const { isMasterKey } = await import('@tessarion/service');
    const isIt = await isMasterKey(options.data, file).catch(failed(`${file} could not be tried.`));
    if (!isIt)
      throw new CliError(
        1,
        `${file} does not open ${options.data}.`,
        'It holds another key, such as a former one.',
        'Copy the master key there that the service has now.',
      );
    print(`${file} holds the master key of ${options.data}.`);
  });
}
