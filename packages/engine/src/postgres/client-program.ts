import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { once } from 'node:events';
import { chownSync, closeSync, fchmodSync, mkdtempSync, openSync, rmSync, unlinkSync, writeSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { pipeline } from 'node:stream';
import { EngineError } from '../ports/errors.js';
import type { Carrier, DatabaseLogin } from '../ports/shapes.js';

/** Debian's `nobody` and `nogroup`, who own nothing. */
const NOBODY = 65_534;

/**
 * Runs one of the database server's own client programs, which read what a site's database says of itself: as nobody
 * where Tessarion runs as root, without settings of anybody's, and with the login in its environment only. There a
 * database's name is never taken for a whole connection string.
 *
 * @param login where it works; undefined for what needs no server
 * @param list read by the program from `/dev/fd/3`
 * @throws {EngineError} `command-failed`
 */
export async function runClient(
  program: 'pg_dump' | 'pg_restore',
  args: readonly string[],
  login: DatabaseLogin | undefined,
  more: { readonly input?: Buffer; readonly list?: string } = {},
): Promise<Buffer> {
  const door = login?.by && (await openDoor(login.by, login));
  try {
    return await run(program, args, login && { ...login, host: door?.folder ?? login.host }, more);
  } finally {
    door?.close();
  }
}

/** A way to a server's database for programs of one user: no port of this machine's, which every user could take. */
async function openDoor(by: Carrier, { host, port }: DatabaseLogin): Promise<{ folder: string; close(): void }> {
  const folder = mkdtempSync(join(tmpdir(), 'tessarion-door-'));
  const server = createServer((socket) => {
    socket.on('error', () => undefined);
    by.dial(host, port).then(
      (channel) => pipeline(socket, channel, socket, () => undefined),
      () => socket.destroy(),
    );
  });
  // As libpq calls the socket of a server that listens in a folder.
  const path = join(folder, `.s.PGSQL.${port}`);
  try {
    await once(server.listen(path), 'listening');
    if (process.getuid?.() === 0) for (const one of [folder, path]) chownSync(one, NOBODY, NOBODY);
  } catch (error) {
    rmSync(folder, { recursive: true });
    throw error;
  }
  return {
    folder,
    close() {
      server.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

function run(
  program: 'pg_dump' | 'pg_restore',
  args: readonly string[],
  login: DatabaseLogin | undefined,
  { input, list }: { readonly input?: Buffer; readonly list?: string },
): Promise<Buffer> {
  const listed = list === undefined ? undefined : nameless(list);
  return new Promise<Buffer>((resolve, reject) => {
    const child = spawn(program, [...args], {
      cwd: '/',
      env: {
        PATH: process.env.PATH,
        HOME: '/nonexistent',
        LANG: 'C.UTF-8',
        PGPASSFILE: '/dev/null',
        PGSERVICEFILE: '/dev/null',
        PGCONNECT_TIMEOUT: '10',
        // What it writes is read by sessions of ours, whatever its database's own setting is.
        PGOPTIONS: '-c standard_conforming_strings=on',
        PGAPPNAME: 'tessarion schema',
        ...(login
          ? {
              PGHOST: login.host,
              PGPORT: String(login.port),
              PGUSER: login.user,
              PGPASSWORD: login.password,
              PGDATABASE: login.database,
            }
          : {}),
      },
      ...(process.getuid?.() === 0 ? { uid: NOBODY, gid: NOBODY } : {}),
      stdio: ['pipe', 'pipe', 'pipe', listed ?? 'ignore'],
    });
    const output: Buffer[] = [];
    let errors = '';
    child.stdout?.on('data', (chunk: Buffer) => output.push(chunk));
    child.stderr?.on('data', (chunk: Buffer) => {
      errors = (errors + chunk.toString()).slice(-4000);
    });
    child.on('error', (error) =>
      reject(
        new EngineError(
          'command-failed',
          `${program} cannot be started: ${error.message}.`,
          "Install PostgreSQL's client programs beside the worker.",
        ),
      ),
    );
    child.on('close', (code) => {
      if (code === 0) resolve(Buffer.concat(output));
      else
        reject(
          new EngineError(
            'command-failed',
            `${program} ended with ${code}: ${errors.trim()}`,
            'Look at the message of the database server.',
          ),
        );
    });
    child.stdin?.on('error', () => undefined);
    child.stdin?.end(input);
  }).finally(() => {
    if (listed !== undefined) closeSync(listed);
  });
}

/** A file that has no name any more, for a program that opens what it is given: a pipe of Node's cannot be opened again. */
function nameless(content: string): number {
  const path = join(tmpdir(), `tessarion-list-${randomBytes(12).toString('hex')}`);
  const file = openSync(path, 'wx+', 0o600);
  unlinkSync(path);
  // Whoever has not been given it cannot reach it.
  fchmodSync(file, 0o444);
  writeSync(file, content);
  return file;
}
