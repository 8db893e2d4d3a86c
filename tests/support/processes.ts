import * as fs from 'node:fs/promises';

interface Found {
  readonly pid: number;
  readonly isDatabase: boolean;
}

/** Processes that were started on a folder: they name it in their arguments or variables. Those that have ended are none. */
async function processesOf(folder: string): Promise<Found[]> {
  const found: Found[] = [];
  for (const name of await fs.readdir('/proc')) {
    if (!/^\d+$/.test(name) || Number(name) === process.pid) continue;
    const read = (file: string): Promise<string> => fs.readFile(`/proc/${name}/${file}`, 'utf8').catch(() => '');
    const args = (await read('cmdline')).split('\0');
    const isNamed =
      args.some((one) => one === folder || one.startsWith(`${folder}/`)) ||
      (args.length > 1 &&
        (await read('environ')).split('\0').some((one) => one.startsWith(`TESSARION_DATA=${folder}/`)));
    if (isNamed && !/\) Z /.test(await read('stat')))
      found.push({ pid: Number(name), isDatabase: args[0]?.endsWith('/postgres') === true });
  }
  return found;
}

/** Ends whatever runs on a folder at once, as if the machine had gone, and waits until it is gone. */
export async function endProcessesOf(folder: string): Promise<void> {
  const told = new Set<number>();
  for (let tries = 0; ; tries++) {
    const found = await processesOf(folder);
    if (found.length === 0) return;
    if (tries > 6000) throw new Error(`These do not end: ${found.map(({ pid }) => pid).join(', ')}.`);
    // A database server ends its own processes; killed itself, it would leave them behind.
    for (const { pid, isDatabase } of found) {
      // Something may have begun since the last look.
      if (told.has(pid)) continue;
      told.add(pid);
      try {
        process.kill(pid, isDatabase ? 'SIGQUIT' : 'SIGKILL');
      } catch {
        // It has just ended.
      }
    }
    await new Promise((resolve) => setTimeout(resolve, 10));
  }
}

/** Workers of a service, by the folder of its data. */
export async function workersOf(folder: string): Promise<number[]> {
  const found: number[] = [];
  for (const { pid } of await processesOf(folder)) {
    const args = await fs.readFile(`/proc/${pid}/cmdline`, 'utf8').catch(() => '');
    if (args.includes('programs/worker.cjs')) found.push(pid);
  }
  return found;
}
