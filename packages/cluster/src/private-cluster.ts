import { spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import { freePort } from './free-port.js';
import { writeWhole } from './write-whole.js';

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

  private constructor(
    private readonly home: string,
    folder: string,
    owner: Owner | undefined,
    programs: string,
  ) {
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
    return new PrivateCluster(absolute, await placeOf(absolute, owner), owner, programs);
  }

  /** Where the cluster lies. */
  get folder(): string {
    return this.#folder;
  }

  /** Starts the cluster, making it first when it is new; adopts one that runs already. */
  async start(settings: Readonly<Record<string, string>> = {}): Promise<ClusterAccess> {
    const access = (await readAccess(this.#folder)) ?? (await this.#make());
    if (this.#folder !== this.home) await writeWhole(noteBeside(this.home), this.#folder);
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

  /** Makes the cluster where there is none; how it is reached is written down last. @throws {ClusterError} where one is there */
  async #make(): Promise<ClusterAccess> {
    // One that was never started holds nothing: it was being made when something ended that.
    if (await isThere(join(this.#data, 'postmaster.opts')))
      throw new ClusterError(
        `${this.#folder} holds a cluster, and access.json, which says how it is reached, is gone. Put that back from a backup.`,
      );
    const access: ClusterAccess = {
      host: '127.0.0.1',
      port: await freePort(),
      user: 'tessarion',
      password: randomBytes(24).toString('base64url'),
    };
    await this.#initialise(access.password);
    await writeWhole(join(this.#folder, ACCESS), JSON.stringify(access));
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

const ACCESS = 'access.json';
const noteBeside = (folder: string): string => `${folder}.place`;

/**
 * Where the cluster of a folder lies: in it, or elsewhere where its user cannot get there, which is written down beside the
 * folder, so that it is found again when that is moved.
 *
 * @throws {ClusterError} where one lies in the folder that cannot be reached any more
 */
async function placeOf(folder: string, owner: Owner | undefined): Promise<string> {
  const note = noteBeside(folder);
  const noted = await fs.readFile(note, 'utf8').catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return undefined;
    throw new ClusterError(`${note} cannot be read: ${error.message}`);
  });
  if (noted !== undefined) {
    if (await isThere(join(noted, ACCESS))) return noted;
    throw new ClusterError(`${note} names ${noted}, where no cluster is. Put it back there from a backup.`);
  }
  if (owner === undefined || (await canReach(folder))) return folder;
  if (await isThere(join(folder, ACCESS)))
    throw new ClusterError(
      `${folder} holds a cluster, and its user may not pass the folders above it: let others pass them (chmod o+x).`,
    );
  const mark = createHash('sha256').update(folder).digest('hex').slice(0, 16);
  return join('/var/lib/tessarion', mark);
}

const isThere = (path: string): Promise<boolean> =>
  fs.stat(path).then(
    () => true,
    (error: NodeJS.ErrnoException) => {
      if (error.code === 'ENOENT' || error.code === 'ENOTDIR') return false;
      throw new ClusterError(`${path} cannot be looked at: ${error.message}`);
    },
  );

/** How a cluster is reached; undefined where there is none. @throws {ClusterError} where what says so cannot be read */
async function readAccess(folder: string): Promise<ClusterAccess | undefined> {
  const path = join(folder, ACCESS);
  if (!(await isThere(path))) return undefined;
  try {
    const { host, port, user, password } = JSON.parse(await fs.readFile(path, 'utf8'));
    if (host !== '127.0.0.1' || !Number.isInteger(port) || user !== 'tessarion' || typeof password !== 'string')
      throw new Error('something is missing in it');
    return { host, port, user, password };
  } catch (error) {
    throw new ClusterError(
      `${path}, which says how the cluster is reached, cannot be read: ${error instanceof Error ? error.message : String(error)}. Put it back from a backup; the cluster itself is left as it is.`,
    );
  }
}
