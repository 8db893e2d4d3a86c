import type { ZxcvbnFactory } from '@zxcvbn-ts/core';
import { ProblemError } from '../ground/problems.js';

/** Fewer guesses than a million, by the estimate's own scale of 0 to 4: what is on lists, and what is made of it. */
const GUESSED = 1;
/** What comes later makes no password easier to guess. */
const LOOKED_AT = 64;

let estimate: Promise<ZxcvbnFactory> | undefined;

/** The lists are read once somebody chooses a password. */
async function readLists(): Promise<ZxcvbnFactory> {
  const { ZxcvbnFactory } = await import('@zxcvbn-ts/core');
  const { adjacencyGraphs, dictionary } = await import('@zxcvbn-ts/language-common');
  return new ZxcvbnFactory({ dictionary, graphs: adjacencyGraphs });
}

/**
 * Refuses a password that is on lists of common ones, or made of such, of the keyboard, or of what everybody knows of its owner
 * (NIST SP 800-63B, 5.1.1.2).
 *
 * @param known words of its owner: name, mail address
 * @throws {ProblemError} `invalid`
 */
export async function mustNotBeGuessable(password: string, known: readonly string[]): Promise<void> {
  estimate ??= readLists();
  const words = ['tessarion', ...known.flatMap((one) => [one, ...one.split(/[^\p{L}\p{N}]+/u)])];
  const { score } = (await estimate).check(password.slice(0, LOOKED_AT), words);
  if (score <= GUESSED)
    throw new ProblemError(
      'invalid',
      'This password is easily guessed.',
      'Take several words that have nothing to do with each other, or let a password manager choose.',
    );
}
