import { EngineError, messageOf } from '../ports/errors.js';
import type { DatabaseLogin } from '../ports/shapes.js';
import { connectTo, databaseError } from './connect.js';

const ATTEMPTS = 5;
const PAUSE_MS = 400;
/** Statements that found somebody else in their way, and may be tried again. */
const BUSY = new Set(['55P03', '40P01']);

/**
 * Changes how a table of a site is made: everything in one transaction, but for an index, which is made beside the work
 * of visitors. Waits at most a moment for locks, so that visitors do not wait behind it, and tries again.
 *
 * @throws {EngineError} `schema-unsupported` in the server's words
 */
export async function runSchemaChange(
  login: DatabaseLogin,
  statements: readonly string[],
  isIndex: boolean,
  purpose: string,
): Promise<void> {
  const client = await connectTo(login, 'write', purpose);
  try {
    await client.query("SET lock_timeout = '1s'");
    for (let attempt = 1; ; attempt++) {
      try {
        if (!isIndex) await client.query('BEGIN');
        for (const statement of statements) await client.query(statement);
        if (!isIndex) await client.query('COMMIT');
        return;
      } catch (error) {
        if (!isIndex) await client.query('ROLLBACK');
        const { code } = error as { code?: string };
        if (code !== undefined && BUSY.has(code) && attempt < ATTEMPTS) {
          await new Promise((resolve) => setTimeout(resolve, PAUSE_MS * attempt));
          continue;
        }
        if (code === undefined || code.startsWith('57') || code.startsWith('08')) throw databaseError(error, login);
        throw new EngineError(
          'schema-unsupported',
          `The database refuses to change: ${messageOf(error)}.`,
          'Correct it where it comes from, or leave it out of the transfer.',
        );
      }
    }
  } finally {
    await client.end();
  }
}
