import { type ChildProcess, execFile, fork } from 'node:child_process';
import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { PrivateCluster } from '@tessarion/cluster';
import { becomeAdministrator } from '@tessarion/demo';
import { median, processorSeconds, seconds } from './installation.js';
import { type Figure, ROUNDS } from './workloads.js';

const TESSARION = fileURLToPath(new URL('../../programs/tessarion.cjs', import.meta.url));

/** How long programs take until they do what one waits for, beside a Node program that does nothing. */
export async function start(): Promise<Figure[]> {
  const data = await fs.mkdtemp(join(tmpdir(), 'tessarion-bench-'));
  await fs.chmod(data, 0o711);
  const cluster = await PrivateCluster.at(join(data, 'tessarion/records'));
  try {
    const nothing = await measured(() => node(['-e', '0']));
    const figures = [figure('version', await measured(() => node([TESSARION, '--version'])), nothing, '≤ 0.12 s')];
    // The first start makes the records.
    const first = await startService(data);
    const { token } = await becomeAdministrator(first.url, first.firstKey, 'a password for the bench');
    const variables = { TESSARION_URL: first.url, TESSARION_TOKEN: token, TESSARION_CONFIG: join(data, 'none') };
    const read = await measured(() => node([TESSARION, 'site', 'list'], variables));
    figures.push(figure('read-command', read, nothing, '≤ 0.25 s'));
    await first.stop();
    const starts: Cost[] = [];
    for (let round = 0; round <= ROUNDS; round++) {
      await cluster.start();
      const began = process.hrtime.bigint();
      const service = await startService(data);
      const wall = Number(process.hrtime.bigint() - began) / 1e9;
      starts.push({ wall, processor: await processorSeconds({ roots: [service.pid] }) });
      await service.stop();
    }
    figures.push(figure('serve', medians(starts.slice(1)), nothing, 'ready in ≤ 1.5 s'));
    return figures;
  } finally {
    await cluster.stop('immediate');
    await fs.rm(cluster.folder, { recursive: true, force: true });
    await fs.rm(data, { recursive: true, force: true });
  }
}

interface Cost {
  readonly wall: number;
  readonly processor: number;
}

const figure = (name: string, cost: Cost, nothing: Cost, goal: string): Figure => ({
  name: `start-${name}`,
  ours_s: Math.round(cost.wall * 1000) / 1000,
  reference_s: Math.round(nothing.wall * 1000) / 1000,
  ratio: Math.round((cost.wall / nothing.wall) * 10) / 10,
  peak_rss_mb: null,
  goal,
  note: `processor time ${cost.processor.toFixed(2)} s; by hand is a Node program that does nothing, ${nothing.processor.toFixed(2)} s`,
});

/** Medians of several runs; the first one reads files from the disk and is not counted. */
async function measured(run: () => Promise<unknown>): Promise<Cost> {
  const costs: Cost[] = [];
  for (let round = 0; round <= ROUNDS * 4; round++) {
    const before = await processorSeconds({ roots: [process.pid] });
    const mine = process.cpuUsage();
    const wall = await seconds(run);
    const { user, system } = process.cpuUsage(mine);
    costs.push({
      wall,
      processor: (await processorSeconds({ roots: [process.pid] })) - before - (user + system) / 1e6,
    });
  }
  return medians(costs.slice(1));
}

const medians = (costs: readonly Cost[]): Cost => ({
  wall: median(costs.map((one) => one.wall)),
  processor: Math.max(0, median(costs.map((one) => one.processor))),
});

const node = (args: readonly string[], variables: Readonly<Record<string, string>> = {}): Promise<unknown> =>
  promisify(execFile)(process.execPath, args, { env: { ...process.env, ...variables } });

interface Started {
  readonly url: string;
  readonly firstKey: string;
  readonly pid: number;
  stop(): Promise<void>;
}

async function startService(data: string): Promise<Started> {
  const service: ChildProcess = fork(TESSARION, ['serve', '--data', join(data, 'tessarion'), '--port', '0'], {
    stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
  });
  const ready = await new Promise<{ url: string; firstKey: string }>((resolve) =>
    service.once('message', (message) => resolve(message as { url: string; firstKey: string })),
  );
  return {
    ...ready,
    pid: service.pid as number,
    stop: () =>
      new Promise((resolve) => {
        service.once('exit', () => resolve());
        service.kill('SIGTERM');
      }),
  };
}
