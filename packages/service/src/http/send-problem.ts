import type { Problem } from '@tessarion/contract';
import { EngineError } from '@tessarion/engine';
import type { FastifyReply } from 'fastify';
import { ProblemError } from '../ground/problems.js';

/** Answers with a problem document (RFC 9457). */
export function sendProblem(reply: FastifyReply, problem: Problem): void {
  void reply.status(problem.status).type('application/problem+json').send(JSON.stringify(problem));
}

/** What a site's own database says is no fault of the service. */
const ENGINE_STATUS: Readonly<Partial<Record<EngineError['code'], number>>> = {
  'file-refused': 409,
  'database-unreachable': 503,
  'database-refused': 409,
};

/** What went wrong as people are told of it; what nobody expected only stands in the log. */
export function toProblem(error: unknown): Problem {
  if (error instanceof ProblemError) return error.toProblem();
  if (error instanceof EngineError)
    return {
      type: `tessarion:${error.code}`,
      title: 'Failed',
      status: ENGINE_STATUS[error.code] ?? 500,
      detail: error.message,
      next: error.next,
    };
  const status = (error as { statusCode?: number }).statusCode;
  if (status !== undefined && status < 500)
    return { type: 'tessarion:invalid', title: 'Invalid request', status, detail: (error as Error).message };
  return {
    type: 'tessarion:failed',
    title: 'Failed',
    status: 500,
    detail: 'Something unexpected happened.',
    next: 'Look at the service’s log for this time.',
  };
}
