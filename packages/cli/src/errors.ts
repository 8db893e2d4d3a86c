import { ServiceProblem, ServiceUnreachable } from '@tessarion/client';
import type { Command, CommanderError } from 'commander';
import { byOption } from './fields.js';
import { used } from './used-settings.js';

/** 0 done, 1 failed, 2 usage, 3 refused by a rule, 4 collisions left, 5 outdated, 6 cannot reach the service. */
export type ExitCode = 1 | 2 | 3 | 4 | 5 | 6;

/** What a command says when it cannot do what was asked: what, why, what to do next. */
export class CliError extends Error {
  override readonly name = 'CliError';
  constructor(
    readonly code: ExitCode,
    readonly what: string,
    readonly why: string,
    readonly next: string,
  ) {
    super(what);
  }
}

const REFUSALS = new Set([
  'tessarion:lane-closed',
  'tessarion:not-confirmed',
  'tessarion:not-allowed',
  'tessarion:not-signed-in',
  'tessarion:checks-failed',
  'tessarion:needs-approval',
  'tessarion:claimed',
  'tessarion:closed',
  'tessarion:taken',
  'tessarion:conflict',
]);

/** What ends with a code of its own. */
const CODES: Readonly<Record<string, ExitCode>> = {
  'tessarion:invalid': 2,
  'tessarion:unsettled': 4,
  'tessarion:outdated': 5,
  'tessarion:changed-meanwhile': 5,
};

/** A command as one types it. */
const nameOf = (command: Command): string =>
  command.parent ? `${nameOf(command.parent)} ${command.name()}` : command.name();

const has = (command: Command, long: string): boolean => command.options.some((one) => one.long === long);

const helpOf = (command: Command): string => `See: ${nameOf(command)} --help`;

/** What was typed and is not understood; undefined where the help is the answer. */
export function usageError({ code, message }: CommanderError, command: Command): CliError | undefined {
  if (code === 'commander.help') return undefined;
  const [what = '', ...suggestions] = message.replace(/^error: /, '').split('\n');
  const said = (text: string): string => `${text.charAt(0).toUpperCase()}${text.slice(1).replace(/\.?$/, '.')}`;
  if (code === 'commander.excessArguments' && ['--from', '--onto'].every((long) => has(command, long)))
    return new CliError(
      2,
      said(what),
      'Both ends are named by options: --from SITE/NAME --onto SITE/NAME.',
      helpOf(command),
    );
  if (code !== 'commander.missingMandatoryOptionValue')
    return new CliError(2, said(what), suggestions.join(' '), helpOf(command));
  const missing = command.options.filter(
    (one) => one.mandatory && command.getOptionValue(one.attributeName()) === undefined,
  );
  return new CliError(
    2,
    `${missing.length === 1 ? 'This option is' : 'These options are'} needed: ${missing.map((one) => one.flags).join(', ')}.`,
    missing.map((one) => `${one.long}: ${one.description.replace(/ ?\(needed\)$/, '')}`).join('\n'),
    helpOf(command),
  );
}

/** Anything thrown by a command, as three lines and an exit code. */
export function describeError(error: unknown, command: Command): { code: ExitCode; lines: string[] } {
  if (error instanceof CliError)
    return { code: error.code, lines: [error.what, error.why, error.next].filter((line) => line !== '') };
  if (error instanceof ServiceUnreachable)
    return {
      code: 6,
      lines: [
        error.message,
        'It may not be running, or run elsewhere.',
        'Start it with tessarion serve, or name it with --url.',
      ],
    };
  if (error instanceof ServiceProblem) {
    const { problem } = error;
    const code = CODES[problem.type] ?? (REFUSALS.has(problem.type) ? 3 : 1);
    if (problem.fields !== undefined)
      return {
        code,
        lines: [
          'This cannot be done as it was written.',
          ...byOption(problem.fields, command).map((field) => `${field.option}: ${field.message}`),
          helpOf(command),
        ],
      };
    if (problem.type === 'tessarion:not-signed-in' && used.tokenFrom !== undefined)
      return {
        code,
        lines: [`${problem.title}.`, `${problem.detail} It came from ${used.tokenFrom}.`, problem.next ?? ''],
      };
    return {
      code,
      lines: [`${problem.title}.`, problem.detail, ...(problem.next === undefined ? [] : [problem.next])],
    };
  }
  return {
    code: 1,
    lines: [
      'That did not work.',
      error instanceof Error ? error.message : String(error),
      'Run it again; if it goes on, look at the service’s log.',
    ],
  };
}

/** Anything thrown as problem details (RFC 9457), with the exit code: what `--json` writes to standard error. */
export function problemOf(error: unknown, exitCode: ExitCode, command: Command): Record<string, unknown> {
  if (error instanceof ServiceProblem) {
    const { fields } = error.problem;
    return { ...error.problem, ...(fields ? { options: byOption(fields, command) } : {}), exitCode };
  }
  const { lines } = describeError(error, command);
  const [title, detail, next] = error instanceof CliError ? [error.what, error.why, error.next] : lines;
  return { type: 'tessarion:command', title, detail, ...(next ? { next } : {}), exitCode };
}
