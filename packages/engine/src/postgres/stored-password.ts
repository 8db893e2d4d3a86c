import { createHash, createHmac, pbkdf2Sync, randomBytes } from 'node:crypto';

/** As many as PostgreSQL takes itself; passwords here are long and random. */
const ITERATIONS = 4096;

/**
 * What a database server keeps of a password. Given this in place of the password, the password stands in no
 * statement, and so in no log of the server.
 *
 * @param password of printable ASCII
 * @param encryption the server's `password_encryption`: `scram-sha-256` (RFC 5802, RFC 7677) or `md5`
 */
export function storedPassword(user: string, password: string, encryption: string): string {
  if (encryption === 'md5') return `md5${createHash('md5').update(`${password}${user}`).digest('hex')}`;
  const salt = randomBytes(16);
  const salted = pbkdf2Sync(password, salt, ITERATIONS, 32, 'sha256');
  const keyOf = (name: string): Buffer => createHmac('sha256', salted).update(name).digest();
  const stored = createHash('sha256').update(keyOf('Client Key')).digest('base64');
  return `SCRAM-SHA-256$${ITERATIONS}:${salt.toString('base64')}$${stored}:${keyOf('Server Key').toString('base64')}`;
}
