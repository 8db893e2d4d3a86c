import type { Figures } from '@tessarion/contract';
import type { Command } from 'commander';
import { bar, bold, count, print, printJson, printTable, size } from '../output.js';
import { connect, wantsJson } from '../program.js';
import { examples, json } from './options.js';

/** The command that shows how sites went over time. */
export function addFigures(program: Command): void {
  examples(
    json(
      program
        .command('figures')
        .description('how sites went over the last twelve weeks: drift, disk, transfers, visits')
        .option('--site <NAME>', 'only this site'),
    ),
    'tessarion figures',
    'tessarion figures --site threadmill',
  ).action(async ({ site }: { site?: string }, command: Command) => {
    const client = await connect(command);
    const figures = await client.call('figuresShow', { query: site === undefined ? {} : { site } });
    if (wantsJson(command)) return printJson(figures);
    printWeeks(figures);
    print('');
    printHours(figures);
  });
}

function printWeeks({ drift, disk, transfers }: Figures): void {
  printTable(
    ['week of', 'waits to go up', 'changed on live', 'disk', 'done', 'failed', 'taken back or stopped'],
    drift.map(({ week, up, down }, i) => [
      week,
      count(up),
      count(down),
      size(disk[i]?.bytes ?? 0),
      count(transfers[i]?.done ?? 0),
      count(transfers[i]?.failed ?? 0),
      count(transfers[i]?.undone ?? 0),
    ]),
  );
}

/** Visits by the hour, as bars. */
function printHours({ visits }: Figures): void {
  const most = Math.max(...visits.map((one) => one.requests));
  print(bold('Requests that live answers, by the hour of the day (UTC)'));
  if (most === 0) {
    print('None were counted in the last four weeks.');
    return;
  }
  printTable(
    ['hour', 'requests', ''],
    visits.map(({ hour, requests }) => [
      String(hour).padStart(2, '0'),
      count(requests),
      bar(requests / most).replace(/[□.]+$/, ''),
    ]),
  );
}
