import type { Command } from 'commander';

/** What every command takes that starts a transfer. */
export interface Acting {
  readonly detach?: boolean;
  readonly json?: boolean;
}

export const json = (command: Command): Command => command.option('--json', 'one JSON document');

export const acting = (command: Command): Command =>
  json(command.option('--detach', 'print the id and go on in the background'));

/** Puts examples under a command's help. */
export const examples = (command: Command, ...lines: string[]): Command =>
  command.addHelpText('after', `\nExamples:\n${lines.map((line) => `  ${line}`).join('\n')}`);
