import { ProblemError } from '../ground/problems.js';

/**
 * Sees that an edit was made from what is there now (RFC 9110, 13.1.1; RFC 6585, 3).
 *
 * @param given the header `If-Match`, as it came
 * @param current the entity tag of what is there; undefined where nothing is there yet
 * @throws {ProblemError} `etag-missing` or `changed-meanwhile`
 */
export function mustMatch(given: string | undefined, current: string | undefined): void {
  if (given === undefined) {
    if (current === undefined) return;
    throw new ProblemError(
      'etag-missing',
      'This is there already, and the request does not say which state of it was edited.',
      'Read it, and send its etag as If-Match; * writes over whatever is there.',
    );
  }
  const wanted = given.split(',').map((one) => one.trim());
  if (current !== undefined && (wanted.includes('*') || wanted.includes(`"${current}"`))) return;
  throw new ProblemError(
    'changed-meanwhile',
    current === undefined
      ? 'What was edited is not there any more.'
      : 'Somebody changed this after it was read; nothing was written.',
    'Read it again, and edit what is there now.',
  );
}
