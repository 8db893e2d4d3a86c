import type { z } from 'zod';

/** What is expected, in words of people who write such things. */
const MUST_BE: Readonly<Record<string, string>> = {
  string: 'must be text',
  number: 'must be a number',
  int: 'must be a whole number',
  boolean: 'must be true or false',
  array: 'must be a list',
  object: 'must hold names and values',
  record: 'must hold names and values',
};

/** Units of what is too much or too little, by what is counted. */
const UNITS: Readonly<Record<string, string>> = { string: ' characters', array: ' of them', set: ' of them' };

/**
 * Says what is wrong with a value where its schema has no words of its own.
 *
 * @returns undefined where the schema's library has the better words
 */
export function plainIssue(issue: z.core.$ZodRawIssue): string | undefined {
  const unit = 'origin' in issue ? (UNITS[String(issue.origin)] ?? '') : '';
  switch (issue.code) {
    case 'invalid_type':
      return issue.input === undefined ? 'is needed' : MUST_BE[String(issue.expected)];
    case 'too_big':
      return `must be at most ${issue.maximum}${unit}`;
    case 'too_small':
      return issue.origin === 'string' && Number(issue.minimum) === 1
        ? 'must not be empty'
        : `must be at least ${issue.minimum}${unit}`;
    case 'invalid_format':
      if (issue.format === 'datetime') return 'write a time with its zone, such as 2026-11-30T18:00:00Z';
      if (issue.format === 'starts_with') return `must begin with ${String(issue.prefix)}`;
      return issue.format === 'regex' ? 'is not written as it must be' : undefined;
    case 'invalid_value':
      return `must be ${issue.values.length === 1 ? '' : 'one of '}${issue.values.map(String).join(', ')}`;
    case 'unrecognized_keys':
      return `${issue.keys.map((key) => `"${key}"`).join(', ')} is not known here`;
    default:
      return undefined;
  }
}
