import type { Command } from 'commander';
import { bold, printJson, printTable, size } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { examples, json } from './options.js';

/** Commands on servers. */
export function addServers(program: Command): void {
  const server = program.command('server').description('machines where environments live');
  examples(
    json(server.command('list').description('list the servers')),
    'tessarion server list',
    'tessarion server list --json',
  ).action(async (_options: unknown, command: Command) => {
    const servers = await (await connect(command)).call('serverList');
    if (wantsJson(command)) return printJson(servers);
    printTable(
      ['server', 'folder', 'database', 'reached', 'free'],
      servers.map((one) => [
        bold(one.name),
        one.folder,
        one.database,
        one.reached ? 'yes' : 'no',
        one.freeBytes === null ? '–' : size(one.freeBytes),
      ]),
      [4],
    );
  });
}
