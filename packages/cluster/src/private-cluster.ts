import { spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import { freePort } from './free-port.js';

/** How to reach a private cluster as its superuser. */
export interface ClusterAccess {
  readonly host: '127.0.0.1';
  readonly port: number;
  readonly user: 'tessarion';
  readonly password: string;
}

export class ClusterError extends Error {
  override readonly name = 'ClusterError';
}

interface Owner {
  readonly uid: number;
  readonly gid: number;
}

/**
 * A PostgreSQL cluster of our own on loopback, with passwords (scram) and without a socket. The server refuses to
 * run as root; then everything runs as the unprivileged user that Debian's package makes, and the cluster lies where
 * that user can reach it.
 */
export class PrivateCluster {
  readonly #folder: string;
  readonly #owner: Owner | undefined;
  readonly #programs: string;

  private constructor(folder: string, owner: Owner | undefined, programs: string) {
    this.#folder = folder;
    this.#owner = owner;
    this.#programs = programs;
  }

  /**
   * Prepares (but does not start) the cluster that belongs to `folder`.
   *
   * @throws {ClusterError} when PostgreSQL's server programs are missing
   */
  static async at(folder: string): Promise<PrivateCluster> {
    const programs = await findPrograms();
    const owner = process.getuid?.() === 0 ? await findUser('postgres') : undefined;
    const absolute = resolve(folder);
    const isReachable = owner === undefined || (await canReach(absolute));
    const mark = createHash('sha256').update(absolute).digest('hex').slice(0, 16);
    return new PrivateCluster(isReachable ? absolute : join('/var/lib/tessarion', mark), owner, programs);
  }

  /** Where the cluster lies. */
  get folder(): string {
    return this.#folder;
  }

  /** Starts the cluster, making it first when it is new; adopts one that runs already. */
  async start(settings: Readonly<Record<string, string>> = {}): Promise<ClusterAccess> {
    const accessFile = join(this.#folder, 'access.json');
    let access = await readJson<ClusterAccess>(accessFile);
    if (!access) {
      access = {
        host: '127.0.0.1',
        port: await freePort(),
        user: 'tessarion',
        password: randomBytes(24).toString('base64url'),
      };
      await this.#initialise(access.password);
      await fs.writeFile(accessFile, JSON.stringify(access), { mode: 0o600 });
    }
    if (await this.isRunning()) return access;
    await fs.rm(join(this.#data, 'postmaster.pid'), { force: true });
    const all = {
      listen_addresses: '127.0.0.1',
      unix_socket_directories: '',
      max_connections: '200',
      shared_buffers: '128MB',
      wal_level: 'minimal',
      max_wal_senders: '0',
      max_wal_size: '2GB',
      track_commit_timestamp: 'off',
      ...settings,
    };
    const options = Object.entries({ ...all, port: String(access.port) })
      .map(([name, value]) => `-c ${name}='${value}'`)
      .join(' ');
    await this.#run('pg_ctl', [
      '-D',
      this.#data,
      '-l',
      join(this.#folder, 'server.log'),
      '-o',
      options,
      '-w',
      '-t',
      '60',
      'start',
    ]);
    return access;
  }

  get #data(): string {
    return join(this.#folder, 'data');
  }

  async isRunning(): Promise<boolean> {
    try {
      await this.#run('pg_ctl', ['-D', this.#data, 'status']);
      return !(await this.#isDead());
    } catch {
      return false;
    }
  }

  /** Whether the server has died and nobody has taken notice, as in a container whose first process does not. */
  async #isDead(): Promise<boolean> {
    const [pid] = (await fs.readFile(join(this.#data, 'postmaster.pid'), 'utf8').catch(() => '')).split('\n');
    const state = await fs.readFile(`/proc/${pid}/stat`, 'utf8').catch(() => '');
    return /\) Z /.test(state);
  }

  /** Stops the cluster; one that does not run is no error. */
  async stop(mode: 'fast' | 'immediate' = 'fast'): Promise<void> {
    if (await this.isRunning()) await this.#run('pg_ctl', ['-D', this.#data, '-m', mode, '-w', '-t', '60', 'stop']);
  }

  async #initialise(password: string): Promise<void> {
    // The server's user must be able to pass the folders above, which may all be new.
    await fs.mkdir(dirname(this.#folder), { recursive: true, mode: 0o755 });
    await fs.mkdir(this.#folder, { recursive: true, mode: 0o700 });
    if (this.#owner) await fs.chown(this.#folder, this.#owner.uid, this.#owner.gid);
    await fs.rm(this.#data, { recursive: true, force: true });
    const passwordFile = join(this.#folder, 'password.new');
    await fs.writeFile(passwordFile, `${password}\n`, { mode: 0o600 });
    if (this.#owner) await fs.chown(passwordFile, this.#owner.uid, this.#owner.gid);
    try {
      await this.#run('initdb', [
        '-D',
        this.#data,
        '-U',
        'tessarion',
        '-A',
        'scram-sha-256',
        '--pwfile',
        passwordFile,
        '-E',
        'UTF8',
        '--locale=C.UTF-8',
        '--no-sync',
      ]);
    } finally {
      await fs.rm(passwordFile, { force: true });
    }
  }

  #run(program: string, args: readonly string[]): Promise<void> {
    return new Promise((done, reject) => {
      const child = spawn(join(this.#programs, program), [...args], {
        ...(this.#owner ? { uid: this.#owner.uid, gid: this.#owner.gid } : {}),
        cwd: '/',
        env: { PATH: process.env.PATH, LANG: 'C.UTF-8' },
        stdio: ['ignore', 'ignore', 'pipe'],
        detached: true,
      });
      let errors = '';
      child.stderr.on('data', (chunk: Buffer) => {
        errors = (errors + chunk.toString()).slice(-2000);
      });
      child.on('error', reject);
      // 'exit', not 'close': the server that pg_ctl leaves behind holds on to its streams.
      child.on('exit', (code) => {
        child.stderr.destroy();
        if (code === 0) done();
        else
          reject(
            new ClusterError(
              `${program} ended with ${code}: ${errors.trim()} (see ${join(this.#folder, 'server.log')})`,
            ),
          );
      });
    });
  }
}

async function findPrograms(): Promise<string> {
  for (const version of ['15', '16', '17', '18']) {
    const folder = `/usr/lib/postgresql/${version}/bin`;
    if (
      await fs.access(join(folder, 'postgres')).then(
        () => true,
        () => false,
      )
    )
      return folder;
  }
  throw new ClusterError(
    "PostgreSQL's server programs are not installed; install Debian's package postgresql-15, or give a database URL.",
  );
}

async function findUser(name: string): Promise<Owner> {
  const line = (await fs.readFile('/etc/passwd', 'utf8')).split('\n').find((one) => one.startsWith(`${name}:`));
  const [, , uid, gid] = (line ?? '').split(':');
  if (!uid || !gid)
    throw new ClusterError(`The server does not run as root, and there is no user "${name}" to run it as.`);
  return { uid: Number(uid), gid: Number(gid) };
}

/** Whether every folder above lets other users pass. */
async function canReach(folder: string): Promise<boolean> {
  for (let at = dirname(folder); at !== '/'; at = dirname(at)) {
    const stat = await fs.stat(at).catch(() => undefined);
    if (stat && (stat.mode & 0o001) === 0) return false;
  }
  return true;
}

async function readJson<T>(path: string): Promise<T | undefined> {
  try {
    return JSON.parse(await fs.readFile(path, 'utf8')) as T;
  } catch {
    return undefined;
  }
}
