#!/usr/bin/env node
import { Command, CommanderError } from 'commander';
import { addDailyCommands } from './commands/daily.js';
import { addEnvironments } from './commands/environments.js';
import { addGuests } from './commands/guests.js';
import { addJournal } from './commands/journal.js';
import { addNotices } from './commands/notices.js';
import { addPeople } from './commands/people.js';
import { addPlans } from './commands/plans.js';
import { addProfileCommands } from './commands/profiles.js';
import { addRequests } from './commands/requests.js';
import { addServers } from './commands/servers.js';
import { addServiceCommands } from './commands/service.js';
import { addSites } from './commands/sites.js';
import { addSnapshots } from './commands/snapshots.js';
import { addTransfers } from './commands/transfers.js';
import { addWebhooks } from './commands/webhooks.js';
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
addSites(program);
addEnvironments(program);
addTransfers(program);
addSnapshots(program);
addRequests(program);
addGuests(program);
addPlans(program);
addPeople(program);
addJournal(program);
addWebhooks(program);
addNotices(program);
addServers(program);
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
