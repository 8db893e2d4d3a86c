import { EngineError } from '../ports/errors.js';
import { quoteName } from './describe.js';

/** Entries of an archive's list that a copy makes by itself, or may not make: `ID; OID OID DESCRIPTION SCHEMA …`. */
const NOT_OURS = /^\d+; \d+ \d+ (?:COMMENT - EXTENSION|SCHEMA -) /;

/** Of an archive's own list those entries that are to be written out. @param list as `pg_restore --list` writes it */
export const wantedEntries = (list: string): string =>
  list
    .split('\n')
    .filter((line) => !NOT_OURS.test(line))
    .join('\n');

const HEAD = /^(--\n-- PostgreSQL database dump\n--\n\n)\\restrict ([A-Za-z\d]{16,})\n\n?((?:-- Dumped [^\n]*\n)*)/;

/**
 * The statements that `pg_restore` wrote, as they are sent to a server: without the two lines that are for `psql` alone,
 * which stand first and last. What lies between is the site's own and never touched: it may hold any line.
 *
 * @throws {EngineError} `command-failed` for programs that write no such lines: their comments may hold line ends of the
 * site's own, after which a comment is none any more
 */
export function statementsOf(written: Buffer): Buffer {
  const text = written.toString('latin1');
  const [head, title = '', key] = HEAD.exec(text) ?? [];
  const last = `\\unrestrict ${key}\n\n`;
  if (head === undefined || !text.endsWith(last))
    throw new EngineError(
      'command-failed',
      "PostgreSQL's client programs beside the worker are too old to be trusted with what a site's database says of itself.",
      'Install the latest minor version of pg_dump and pg_restore: 13.22, 14.19, 15.14, 16.10, 17.6 or newer.',
    );
  return Buffer.from(title + text.slice(head.length, -last.length), 'latin1');
}

/** Makes the schemas of a database, of which some may be there for an extension. */
export const schemasSql = (names: readonly string[]): Buffer =>
  Buffer.from(names.map((name) => `CREATE SCHEMA IF NOT EXISTS ${quoteName(name)};\n`).join(''));
