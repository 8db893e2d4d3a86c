import { ProblemError } from './problems.js';

/**
 * What is not there, and what somebody may not see, are told in the same words: nobody learns of a thing by asking.
 */
const absent = (thing: string, next: string): ProblemError =>
  new ProblemError('not-found', `There is no ${thing}.`, next);

/** That there is no site or environment of a name. */
export class AbsentPlace extends ProblemError {
  constructor(
    readonly is: 'site' | 'environment',
    readonly path: string,
    /** What might have been meant, among what whoever asks may see. */
    readonly near?: string,
  ) {
    super(
      'not-found',
      `There is no ${is} ${path}.`,
      `${near === undefined ? '' : `Did you mean ${near}? `}List what there is: tessarion site list`,
    );
  }
}

/** The refusal where there is no such site, or nobody may know of it. */
export const noSite = (site: string): ProblemError => new AbsentPlace('site', site);

/** The refusal where there is no such environment, or nobody may know of it. */
export const noEnvironment = (path: string): ProblemError => new AbsentPlace('environment', path);

/** The refusal where there is no such transfer. */
export const noTransfer = (id: string): ProblemError =>
  absent(`transfer ${id}`, 'List what there is: tessarion transfer list');

/** The refusal where there is no such snapshot. */
export const noSnapshot = (id: string): ProblemError =>
  absent(`snapshot ${id}`, 'List what there is: tessarion snapshot list');

/** The refusal where there is no such forecast. */
export const noForecast = (id: string): ProblemError =>
  absent(`forecast ${id}`, 'Make one: tessarion forecast --from SITE/NAME --onto SITE/NAME');

/** The refusal where there is no such change request. */
export const noRequest = (id: string): ProblemError =>
  absent(`change request ${id}`, 'List what there is: tessarion request list');

/** The refusal where there is no such guest. */
export const noGuest = (id: string): ProblemError =>
  absent(`guest ${id}`, 'List what there is: tessarion guest list SITE');

/** The refusal where there is no such profile, or not in that version. */
export const noProfile = (name: string, version?: number): ProblemError =>
  absent(
    `profile ${name}${version === undefined ? '' : ` in version ${version}`}`,
    'List what there is: tessarion profile list',
  );
