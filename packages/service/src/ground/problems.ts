import type { Failure, Problem } from '@tessarion/contract';
import { EngineError } from '@tessarion/engine';

/** Every kind of refusal or failure that the interface knows; `type` is stable. */
const KINDS = {
  'not-signed-in': [401, 'Not signed in'],
  passcode: [401, 'Passcode wanted'],
  'second-factor': [401, 'Second factor wanted'],
  'wrong-password': [400, 'Wrong password'],
  'not-allowed': [403, 'Not allowed'],
  'not-found': [404, 'Not found'],
  invalid: [400, 'Invalid request'],
  'lane-closed': [409, 'This way is closed'],
  'needs-approval': [409, 'Needs approval'],
  claimed: [409, 'Claimed'],
  closed: [409, 'Not at this time'],
  'not-confirmed': [409, 'Not confirmed'],
  taken: [409, 'Already taken'],
  conflict: [409, 'Not possible now'],
  outdated: [409, 'Outdated'],
  'changed-meanwhile': [412, 'Changed meanwhile'],
  'etag-missing': [428, 'Entity tag missing'],
  'checks-failed': [409, 'A check failed'],
  unsettled: [409, 'Collisions to settle'],
  'too-many-tries': [429, 'Too many tries'],
  'too-many-requests': [429, 'Too many requests'],
  failed: [500, 'Failed'],
} as const;

/** What kind of refusal it is; the interface's documents name each with its status. */
export type ProblemKind = keyof typeof KINDS;

/** A refusal with a plain reason and a next step. */
export class ProblemError extends Error {
  override readonly name: string = 'ProblemError';

  constructor(
    readonly kind: ProblemKind,
    detail: string,
    readonly next: string,
    readonly fields?: Problem['fields'],
  ) {
    super(detail);
  }

  get status(): number {
    return KINDS[this.kind][0];
  }

  toProblem(): Problem {
    const [status, title] = KINDS[this.kind];
    return {
      type: `tessarion:${this.kind}`,
      title,
      status,
      detail: this.message,
      next: this.next,
      ...(this.fields ? { fields: this.fields } : {}),
    };
  }
}

/** A refusal of what has to be confirmed; where nothing was said yet, it only asks. */
export class NotConfirmed extends ProblemError {
  constructor(
    readonly given: string | undefined,
    detail: string,
    next: string,
  ) {
    super('not-confirmed', detail, next);
  }
}

/** A refusal of what may be done later. */
export class TooMany extends ProblemError {
  constructor(
    kind: 'too-many-tries' | 'too-many-requests',
    detail: string,
    readonly seconds: number,
  ) {
    super(kind, detail, `Wait ${seconds} s.`);
  }
}

/** What a failed transfer tells people, from anything that was thrown. */
export function failureOf(error: unknown): Failure {
  if (error instanceof EngineError) return { code: error.code, message: error.message, next: error.next };
  if (error instanceof ProblemError) return { code: error.kind, message: error.message, next: error.next };
  return {
    code: 'unexpected',
    message: `Something unexpected happened: ${error instanceof Error ? error.message : String(error)}`,
    next: 'Look at the worker’s log; the transfer can be started again.',
  };
}
