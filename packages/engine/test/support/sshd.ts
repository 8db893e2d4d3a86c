import { type ChildProcess, spawn } from 'node:child_process';
import { once } from 'node:events';
import * as fs from 'node:fs/promises';
import { connect, createServer } from 'node:net';
import { tmpdir, userInfo } from 'node:os';
import { join } from 'node:path';
import { closeLinks, newLoginKey, type SshPlace } from '../../src/ssh/link.js';

/** An SSH server of Debian's on loopback, that lets whoever started it in. */
export interface Sshd {
  readonly place: SshPlace;
  /** Lines that a login's key stands in, as `authorized_keys` has them; may be written anew. */
  readonly authorized: string;
  readonly publicKey: string;
  readonly process: ChildProcess;
  /** All that it has said. */
  log(): string;
  stop(): Promise<void>;
}

/** A port that nobody listens on. */
export async function freePort(): Promise<number> {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as { port: number };
  server.close();
  await once(server, 'close');
  return port;
}

/** Starts one. @param lines further ones of its configuration */
export async function startSshd(lines: readonly string[] = []): Promise<Sshd> {
  const folder = await fs.mkdtemp(join(tmpdir(), 'tessarion-sshd-'));
  const [host, login] = [await newLoginKey('host'), await newLoginKey('login')];
  const authorized = join(folder, 'authorized_keys');
  await fs.writeFile(join(folder, 'host'), host.private, { mode: 0o600 });
  await fs.writeFile(authorized, `${login.public}\n`);
  const port = await freePort();
  await fs.writeFile(
    join(folder, 'config'),
    [
      ...lines,
      `Port ${port}`,
      'ListenAddress 127.0.0.1',
      `HostKey ${folder}/host`,
      `AuthorizedKeysFile ${authorized}`,
      'PidFile none',
      'StrictModes no',
      'UsePAM no',
      'PasswordAuthentication no',
      'KbdInteractiveAuthentication no',
      'PermitRootLogin prohibit-password',
      'MaxStartups 200',
      '',
    ].join('\n'),
  );
  // It wants a folder of this name where it is root.
  if (process.getuid?.() === 0) await fs.mkdir('/run/sshd', { recursive: true, mode: 0o755 });
  const child = spawn('/usr/sbin/sshd', ['-D', '-e', '-f', join(folder, 'config')], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  let said = '';
  child.stderr.on('data', (piece: Buffer) => {
    said += piece.toString();
  });
  await listening(port, child, () => said);
  return {
    place: {
      host: '127.0.0.1',
      port,
      user: userInfo().username,
      key: login.private,
      hostKey: (host.public.split(' ')[1] as string).trim(),
    },
    authorized,
    publicKey: login.public,
    process: child,
    log: () => said,
    async stop() {
      closeLinks();
      if (child.exitCode === null && child.signalCode === null) {
        child.kill('SIGTERM');
        await once(child, 'exit');
      }
      await fs.rm(folder, { recursive: true, force: true });
    },
  };
}

async function listening(port: number, child: ChildProcess, said: () => string): Promise<void> {
  for (let tries = 0; tries < 1200; tries++) {
    if (child.exitCode !== null) throw new Error(`sshd ended with ${child.exitCode}: ${said()}`);
    const socket = connect(port, '127.0.0.1');
    const isUp = await Promise.race([
      once(socket, 'connect').then(() => true),
      once(socket, 'error').then(() => false),
    ]).catch(() => false);
    socket.destroy();
    if (isUp) return;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error(`sshd does not answer: ${said()}`);
}
