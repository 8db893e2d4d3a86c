import { ServiceProblem, ServiceUnreachable } from '@tessarion/client';

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
]);

/** What ends with a code of its own. */
const CODES: Readonly<Record<string, ExitCode>> = {
  'tessarion:invalid': 2,
  'tessarion:unsettled': 4,
  'tessarion:outdated': 5,
  'tessarion:changed-meanwhile': 5,
};

/** Anything thrown, as three lines and an exit code. */
export function describeError(error: unknown): { code: ExitCode; lines: string[] } {
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
    const fields =
      (problem.fields ?? []).length > 1
        ? (problem.fields ?? []).map((field) => `  ${field.path}: ${field.message}`)
        : [];
    return {
      code,
      lines: [`${problem.title}.`, problem.detail, ...fields, ...(problem.next === undefined ? [] : [problem.next])],
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
export function problemOf(error: unknown, exitCode: ExitCode): Record<string, unknown> {
  if (error instanceof ServiceProblem) return { ...error.problem, exitCode };
  const { lines } = describeError(error);
  const [title, detail, next] = error instanceof CliError ? [error.what, error.why, error.next] : lines;
  return { type: 'tessarion:command', title, detail, ...(next ? { next } : {}), exitCode };
}
