#!/usr/bin/env node
import { Command, CommanderError } from 'commander';
import { addDailyCommands } from './commands/daily.js';
import { addProfileCommands } from './commands/profiles.js';
import { addRecordCommands } from './commands/records.js';
import { addServiceCommands } from './commands/service.js';
import { describeError } from './errors.js';

const program = new Command('tessarion')
  .description('Looks after the dev, staging and live environments of many client sites.')
  .version('0.1.0')
  .option('--url <ADDRESS>', 'where the service answers')
  .option('--token <TOKEN>', 'who you are')
  .exitOverride()
  .configureHelp({ showGlobalOptions: true })
  .showSuggestionAfterError()
  .addHelpText(
    'after',
    '\nExamples:\n  tessarion site list\n  tessarion push --from threadmill/staging --onto threadmill/live',
  );

addDailyCommands(program);
addRecordCommands(program);
addProfileCommands(program);
addServiceCommands(program);

const inherit = (command: Command): void => {
  for (const child of command.commands) {
    child.exitOverride();
    inherit(child);
  }
};
inherit(program);

try {
  await program.parseAsync();
} catch (error) {
  if (error instanceof CommanderError) process.exitCode = error.exitCode === 0 ? 0 : 2;
  else {
    const { code, lines } = describeError(error);
    process.stderr.write(`${lines.join('\n')}\n`);
    process.exitCode = code;
  }
}
