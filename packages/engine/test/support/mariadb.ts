import { type ChildProcess, execFile, spawn } from 'node:child_process';
import { once } from 'node:events';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { Session } from '../../src/mariadb/connect.js';
import type { ServerLogin } from '../../src/ports/database.js';
import { freePort } from './sshd.js';

/** A MariaDB server of Debian's on loopback, with an administrator. */
export interface MariaServer {
  readonly login: ServerLogin;
  readonly process: ChildProcess;
  stop(): Promise<void>;
}

const MARIADBD = '/usr/sbin/mariadbd';

/** Starts one. @param lines further options, such as `--log-bin` */
export async function startMaria(lines: readonly string[] = []): Promise<MariaServer> {
  const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-maria-'));
  const data = join(folder, 'data');
  const asRoot = process.getuid?.() === 0 ? ['--user=root'] : [];
  const own = ['--no-defaults', `--datadir=${data}`, ...asRoot];
  await promisify(execFile)('/usr/bin/mariadb-install-db', [
    ...own,
    '--auth-root-authentication-method=normal',
    '--skip-test-db',
    '--skip-name-resolve',
  ]);
  const port = await freePort();
  const child = spawn(
    MARIADBD,
    [
      ...own,
      `--port=${port}`,
      '--bind-address=127.0.0.1',
      `--socket=${folder}/socket`,
      `--pid-file=${folder}/pid`,
      '--skip-name-resolve',
      '--innodb-flush-log-at-trx-commit=0',
      '--innodb-buffer-pool-size=64M',
      '--innodb-log-file-size=32M',
      '--performance-schema=OFF',
      ...lines,
    ],
    { stdio: ['ignore', 'ignore', 'pipe'] },
  );
  let said = '';
  child.stderr.on('data', (piece: Buffer) => {
    said = (said + piece.toString()).slice(-4000);
  });
  const login = { host: '127.0.0.1', port, user: 'maker', password: 'a secret word' };
  await makeAdministrator(join(folder, 'socket'), login, child, () => said);
  return {
    login,
    process: child,
    async stop() {
      if (child.exitCode === null && child.signalCode === null) {
        child.kill('SIGKILL');
        await once(child, 'exit');
      }
      await fs.rm(folder, { recursive: true, force: true });
    },
  };
}

async function makeAdministrator(
  socket: string,
  { user, password }: ServerLogin,
  child: ChildProcess,
  said: () => string,
): Promise<void> {
  const sql = `GRANT ALL PRIVILEGES ON *.* TO '${user}'@'%' IDENTIFIED BY '${password}' WITH GRANT OPTION`;
  for (let tries = 0; tries < 1200; tries++) {
    if (child.exitCode !== null) throw new Error(`mariadbd ended with ${child.exitCode}: ${said()}`);
    const done = await promisify(execFile)('/usr/bin/mariadb', [
      ...['--no-defaults', `--socket=${socket}`, '--user=root', '--execute', sql],
    ]).then(
      () => true,
      () => false,
    );
    if (done) return;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
  throw new Error(`mariadbd does not answer: ${said()}`);
}

/** Runs statements on a database as its server's administrator. */
export async function onMaria<T>(
  login: ServerLogin,
  database: string,
  work: (session: Session) => Promise<T>,
): Promise<T> {
  const session = await Session.open({ ...login, database }, 'write');
  try {
    return await work(session);
  } finally {
    await session.end();
  }
}
