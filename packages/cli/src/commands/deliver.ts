import type { Command } from 'commander';
import { CliError } from '../errors.js';
import { bold, print, printJson, say, when } from '../output.js';
import { confirming, connect, wantsJson } from '../program.js';
import { reportEnd, watchTransfer } from '../watch.js';
import { examples, json } from './options.js';
import { byId } from './print-request.js';

interface DeliverOptions {
  readonly when: string;
  readonly confirm?: string;
  readonly override?: string;
  readonly detach?: boolean;
}

/** The command that delivers an approved request. */
export function addDeliver(program: Command): void {
  examples(
    json(
      program
        .command('deliver')
        .argument('<request>')
        .description('deliver an approved change request: now, at a time, or in the next window')
        .option('--when <TIME>', 'now, window, or a time such as 2026-12-01T22:30:00Z', 'now')
        .option('--confirm <SITE/NAME>', 'names a live destination in full')
        .option('--override <REASON>', 'outside a window or in a freeze; marked for ever')
        .option('--detach', 'do not wait for its end'),
    ),
    'tessarion deliver q-8k2m4q9x1c --confirm threadmill/live',
    'tessarion deliver q-8k2m4q9x1c --when window --confirm threadmill/live',
  ).action(async (id: string, options: DeliverOptions, command: Command) => {
    const client = await connect(command);
    const request = await client.call('requestShow', byId(id));
    const sentence = request.sentence.map((piece) => piece.text).join('');
    if (!wantsJson(command)) say(bold(sentence));
    const asked = { given: options.confirm, question: `Deliver "${request.title}"`, thing: request.onto };
    const changed = await confirming(asked, (confirm) =>
      client.call('requestDeliver', {
        ...byId(id),
        body: {
          when: readWhen(options.when),
          ...(confirm === undefined ? {} : { confirm }),
          ...(options.override === undefined ? {} : { override: options.override }),
        },
      }),
    );
    if (changed.state === 'delivering' && changed.transfer && !options.detach) {
      const ended = await watchTransfer(client, changed.transfer);
      if (!wantsJson(command) || ended.state !== 'done') reportEnd(ended);
    }
    const after = await client.call('requestShow', byId(id));
    if (wantsJson(command)) printJson(after);
    else print(`${after.id} is ${after.state}${after.deliverAt ? `, due ${when(after.deliverAt)}` : ''}.`);
  });
}

/** @throws {CliError} usage */
const readWhen = (text: string): string => (text === 'now' ? text : readWanted(text));

/** @throws {CliError} usage */
export const readWanted = (text: string): string => (text === 'window' ? text : readTime(text));

/** @throws {CliError} usage */
export function readTime(text: string): string {
  const at = new Date(text);
  if (Number.isNaN(at.getTime()))
    throw new CliError(
      2,
      `"${text}" is no time.`,
      'A time is written with its zone.',
      'For example: 2026-12-01T22:30:00Z',
    );
  return at.toISOString();
}
