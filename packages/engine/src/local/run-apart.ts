import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { EngineError } from '../ports/errors.js';
import type { CommandResult } from '../ports/server.js';

/** Where a program of a site runs, as whom, and what it does not see there. */
export interface Apart {
  /** In which it works, as a path that stays what it is while the program starts. */
  readonly folder: string;
  /** The environment's own folder, and the one that holds it beside those of others. */
  readonly own: string;
  readonly base: string;
  /** Further folders that are not there for it. */
  readonly hidden: readonly string[];
  /** As whom; where Tessarion is not root, it stays who it is. */
  readonly uid: number;
  readonly gid: number;
  readonly timeoutSeconds: number;
}

/** Debian's `nobody` and `nogroup`, who own nothing. */
const NOBODY = 65_534;
const PATH = '/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin';

/** What one program may take: the rest is the machine's. */
const LIMITS = ['--data=4294967296', '--fsize=10737418240', '--nofile=1024', '--nproc=512', '--core=0'];
/** Of what a program says, the end is kept. */
const KEPT_BYTES = 64 * 1024;

/**
 * Lays emptiness over the folders that are not there for a site ($2 …, until `--`), with the site's own ($1) in it again, says
 * so, and goes on as the program behind `--`.
 */
const COVER = `
own=$1; shift
cd "$own" || exit 1
while [ "$1" != -- ]; do
  if [ -d "$1" ]; then mount -t tmpfs -o size=64k,mode=755 tessarion "$1" || exit 1; fi
  shift
done
shift
mkdir -p "$own" && mount --no-canonicalize --bind . "$own" && cd "$own" || exit 1
echo apart >&3; exec "$@" 3>&-
`;

/** The command that runs a program of a site apart (see {@link runApart}), as whoever is root or not. */
export function apartCommand(program: string, args: readonly string[], apart: Apart, isRoot: boolean): string[] {
  const user = apart.uid === 0 ? { uid: NOBODY, gid: NOBODY } : apart;
  return [
    'unshare',
    ...['--mount', '--pid', '--fork', '--mount-proc', '--ipc'],
    ...(isRoot ? ['--propagation', 'private'] : ['--user', '--map-current-user', '--keep-caps']),
    ...['sh', '-c', COVER, 'sh', apart.own, ...apart.hidden, apart.base, '--'],
    ...['setpriv', '--no-new-privs', '--inh-caps=-all', '--ambient-caps=-all', '--bounding-set=-all'],
    ...(isRoot ? [`--reuid=${user.uid}`, `--regid=${user.gid}`, '--clear-groups'] : []),
    ...['prlimit', ...LIMITS, `--cpu=${apart.timeoutSeconds}`],
    ...['env', '--chdir', apart.folder, program, ...args],
  ];
}

/** All that a program of a site finds in its environment. */
export const apartEnvironment = ({ own }: Apart): Record<string, string> => ({ PATH, LANG: 'C.UTF-8', HOME: own });

/** How a program ended that was to be kept apart. */
export interface EndedApart extends CommandResult {
  readonly isApart: boolean;
  readonly isLate: boolean;
}

/** @throws {EngineError} `command-failed` when it was not kept apart */
export function asItEnded(program: string, apart: Apart, { isApart, isLate, ...result }: EndedApart): CommandResult {
  if (!isApart)
    throw new EngineError(
      'command-failed',
      `${program} cannot be kept apart from other sites: ${result.errors.slice(0, 300)}`,
      'Let the worker make namespaces (docs/security.md), or take the task out of the profile.',
    );
  const late = isLate ? `ended after ${apart.timeoutSeconds} s, which is all that it has` : '';
  return { code: result.code, output: result.output, errors: result.errors + late };
}

/**
 * Runs a program of a site without a shell, apart from everything else: as the user whom the site's folder belongs to (as nobody
 * where that is root), without privileges, seeing neither other sites' folders nor processes nor Tessarion's own; within
 * limits of time, memory, processes and files; in an environment of its own. All that it starts ends with it.
 *
 * @throws {EngineError} `command-failed` when it cannot be started, or not apart
 */
export function runApart(program: string, args: readonly string[], apart: Apart): Promise<CommandResult> {
  const command = apartCommand(program, args, apart, process.getuid?.() === 0);
  return new Promise((resolve, reject) => {
    const child = spawn(command[0] as string, command.slice(1), {
      cwd: '/',
      env: apartEnvironment(apart),
      stdio: ['ignore', 'pipe', 'pipe', 'pipe'],
    });
    const [output, errors] = [new End(), new End()];
    let isApart = false;
    let isLate = false;
    const late = setTimeout(() => {
      isLate = true;
      killChildren(child.pid as number);
    }, apart.timeoutSeconds * 1000);
    child.stdout?.on('data', (piece: Buffer) => output.add(piece));
    child.stderr?.on('data', (piece: Buffer) => errors.add(piece));
    child.stdio[3]?.on('data', () => {
      isApart = true;
    });
    child.on('error', (error) => {
      clearTimeout(late);
      reject(
        new EngineError(
          'command-failed',
          `${program} cannot be started apart from other sites: ${error.message}`,
          'Install util-linux beside the worker.',
          { cause: error },
        ),
      );
    });
    child.on('close', (code) => {
      clearTimeout(late);
      const said = { code: code ?? 1, output: output.text('latin1'), errors: errors.text() };
      try {
        resolve(asItEnded(program, apart, { ...said, isApart, isLate }));
      } catch (error) {
        reject(error);
      }
    });
  });
}

/** Ends the first process of a namespace, and with it all others there. */
function killChildren(pid: number): void {
  try {
    const children = readFileSync(`/proc/${pid}/task/${pid}/children`, 'latin1').trim().split(' ');
    for (const one of children) if (one !== '') process.kill(Number(one), 'SIGKILL');
  } catch {
    // It has ended by itself meanwhile.
  }
}

/** The end of what is said. */
class End {
  #pieces: Buffer[] = [];
  #bytes = 0;

  add(piece: Buffer): void {
    this.#pieces.push(piece);
    this.#bytes += piece.length;
    if (this.#bytes <= 2 * KEPT_BYTES) return;
    this.#pieces = [Buffer.concat(this.#pieces).subarray(-KEPT_BYTES)];
    this.#bytes = KEPT_BYTES;
  }

  text(encoding: BufferEncoding = 'utf8'): string {
    return Buffer.concat(this.#pieces).subarray(-KEPT_BYTES).toString(encoding);
  }
}
