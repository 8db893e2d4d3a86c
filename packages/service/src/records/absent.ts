import { ProblemError } from '../problems.js';

/**
 * What is not there, and what somebody may not see, are told in the same words: nobody learns of a thing by asking.
 */
const absent = (thing: string, next: string): ProblemError =>
  new ProblemError('not-found', `There is no ${thing}.`, next);

export const noSite = (site: string): ProblemError => absent(`site ${site}`, 'List what there is: tessarion site list');

export const noEnvironment = (path: string): ProblemError =>
  absent(`environment ${path}`, 'List what there is: tessarion site list');

export const noTransfer = (id: string): ProblemError =>
  absent(`transfer ${id}`, 'List what there is: tessarion transfer list');

export const noSnapshot = (id: string): ProblemError =>
  absent(`snapshot ${id}`, 'List what there is: tessarion snapshot list');

export const noForecast = (id: string): ProblemError =>
  absent(`forecast ${id}`, 'Make one: tessarion forecast --from SITE/NAME --onto SITE/NAME');

export const noRequest = (id: string): ProblemError =>
  absent(`change request ${id}`, 'List what there is: tessarion request list');

export const noGuest = (id: string): ProblemError =>
  absent(`guest ${id}`, 'List what there is: tessarion guest list SITE');

export const noProfile = (name: string, version?: number): ProblemError =>
  absent(
    `profile ${name}${version === undefined ? '' : ` in version ${version}`}`,
    'List what there is: tessarion profile list',
  );
