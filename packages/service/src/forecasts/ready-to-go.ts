import { counted } from '@tessarion/core';
import { ProblemError } from '../ground/problems.js';
import type { ForecastRecord, ForecastResult } from './forecasts.js';

/** What a forecast says. @throws {ProblemError} `conflict` with the reason, as long as it says nothing */
export function resultOf({ id, state, result, failure }: ForecastRecord): ForecastResult {
  if (state === 'failed')
    throw new ProblemError(
      'conflict',
      `Forecast ${id} failed: ${failure?.message ?? 'it was broken off.'}`,
      failure?.next ?? 'Make a new one.',
    );
  if (state === 'computing' || !result)
    throw new ProblemError('conflict', `Forecast ${id} is not ready.`, 'Wait until it is, or make a new one.');
  return result;
}

/**
 * What a forecast says, when nothing in it is in the way or left to settle.
 *
 * @param again the command by which it is looked at again
 * @throws {ProblemError} `conflict`, `checks-failed`, `unsettled`
 */
export function readyToGo(forecast: ForecastRecord, again: string): ForecastResult {
  const { id } = forecast;
  const result = resultOf(forecast);
  const failed = result.checks.find((check) => check.state === 'failed');
  if (failed)
    throw new ProblemError('checks-failed', failed.message, failed.remedy ?? 'Look at the forecast’s checks.');
  if (result.unsettled > 0)
    throw new ProblemError(
      'unsettled',
      `${counted(result.unsettled, 'item')} of forecast ${id} still ${result.unsettled === 1 ? 'collides' : 'collide'}.`,
      `Settle what collides, or leave it out: ${again}`,
    );
  return result;
}

/** What a forecast warns of. */
export const warningsOf = ({ checks }: ForecastResult): string[] =>
  checks.filter((check) => check.state === 'warning').map((check) => check.message);
