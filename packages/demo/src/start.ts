import { type ChildProcess, fork } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { openSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { freePort, PrivateCluster } from '@tessarion/cluster';
import { type ServerLogin, WebHost } from '@tessarion/demo-site';
import pg from 'pg';
import { becomeAdministrator, DEMO_SIZE, fillStudio, installAll, prepareStudio } from './fill.js';
import { bringCrew, COLLEAGUES, mailOf } from './people.js';
import { Progress } from './progress.js';
import { tellRequests } from './requests.js';
import { DEMO_PERSON } from './scenario.js';
import { Visitors } from './visitors.js';

/** What stays the same from start to start. */
interface Remembered {
  readonly password: string;
  readonly webHostPort: number;
  /** Absent in folders that an earlier version made: the service remembers it then. */
  readonly gatewayPort?: number;
  filled: boolean;
  token?: string;
}

interface Ready {
  readonly url: string;
  readonly gatewayPort: number;
  readonly firstKey?: string;
}

const say = (text: string): void => void process.stdout.write(`${text}\n`);

/** Starts the demo, prints the console's address and a login, and runs until stopped. @param data where it lies */
export async function startDemo(data: string): Promise<void> {
  const startedAt = Date.now();
  const hosts = join(data, 'hosts');
  await fs.mkdir(hosts, { recursive: true });
  const file = join(data, 'demo.json');
  const remembered: Remembered = await fs.readFile(file, 'utf8').then(
    (text) => JSON.parse(text),
    async () => ({
      password: `harbour-${randomBytes(6).toString('base64url')}`,
      webHostPort: await freePort(),
      gatewayPort: await freePort(),
      filled: false,
    }),
  );
  const remember = (): Promise<void> => fs.writeFile(file, JSON.stringify(remembered), { mode: 0o600 });
  await remember();

  const cluster = await PrivateCluster.at(join(data, 'site-databases'));
  const webHost = new WebHost(hosts);
  const service = startService(data, remembered.gatewayPort ?? 0);
  const visitors = new Visitors(4000);
  stopWhenAsked(async () => {
    visitors.stop();
    await ended(service);
    await webHost.close();
    await cluster.stop();
  });
  const [server, ready] = await Promise.all([
    cluster.start({ max_connections: '400' }),
    answers(service, data),
    webHost.listen(remembered.webHostPort),
  ]);

  if (!remembered.filled) {
    if (ready.firstKey === undefined)
      throw new Error(`An earlier start was interrupted. Remove ${data} and start again.`);
    say('Filling the studio.');
    const { client, token } = await becomeAdministrator(ready.url, ready.firstKey, remembered.password);
    const place = {
      hosts,
      server,
      webHostPort: remembered.webHostPort,
      gatewayPort: ready.gatewayPort,
      url: ready.url,
    };
    // What is lost when the machine goes down meanwhile is filled anew.
    await waitForDisk(server, false);
    await prepareStudio(client, place, fileURLToPath(new URL('../profiles', import.meta.url)));
    const progress = new Progress(process.stdout);
    await fillStudio(client, place, await installAll(place), (filled) =>
      progress.show(`${filled.sites} of ${DEMO_SIZE.sites} sites, ${filled.copies} of ${DEMO_SIZE.copies} copies`),
    );
    progress.show('Change requests, and what was delivered');
    const crew = await bringCrew(client, ready.url, remembered.password);
    await tellRequests({ client, crew, place });
    progress.end();
    await waitForDisk(server, true);
    remembered.filled = true;
    remembered.token = token;
    await remember();
  }

  visitors.start(ready.gatewayPort);
  say(`
Ready after ${((Date.now() - startedAt) / 1000).toFixed(0)} s.
Console   ${ready.url}
Login     ${DEMO_PERSON.mail}
Also      ${Object.values(COLLEAGUES)
    .map((one) => `${mailOf(one)} (${one.role})`)
    .join(', ')}
Password  ${remembered.password}
A site    http://threadmill.localhost:${ready.gatewayPort}  (editors: editor / editor-of-the-demo)
Commands, in this folder:
export TESSARION_URL=${ready.url} TESSARION_TOKEN=${remembered.token} PATH="$PWD/bin:$PATH"
Stop it with Ctrl-C; it goes on where it was at the next start.`);
  process.send?.('ready');
}

/** The service with two workers: filling is work for both processors that a small machine has. */
function startService(data: string, gatewayPort: number): ChildProcess {
  const log = openSync(join(data, 'service.log'), 'a', 0o600);
  const cli = fileURLToPath(new URL('../../cli/dist/main.js', import.meta.url));
  const ports = ['--port', process.env.TESSARION_DEMO_PORT ?? '0', '--gateway-port', String(gatewayPort)];
  // One person sets the whole studio up within a minute.
  const patient = ['--most-requests', '30000'];
  return fork(cli, ['serve', '--data', join(data, 'tessarion'), ...ports, '--workers', '2', ...patient], {
    stdio: ['ignore', log, log, 'ipc'],
  });
}

const answers = (service: ChildProcess, data: string): Promise<Ready> =>
  new Promise((done, reject) => {
    service.once('message', (message) => done(message as Ready));
    service.once('exit', (code) =>
      reject(new Error(`The service ended with ${code}; see ${join(data, 'service.log')}.`)),
    );
  });

async function ended(service: ChildProcess): Promise<void> {
  if (service.exitCode !== null) return;
  await new Promise<void>((done) => {
    service.once('exit', () => done());
    service.kill('SIGTERM');
  });
}

function stopWhenAsked(stop: () => Promise<void>): void {
  let isStopping = false;
  const once = (): void => {
    if (isStopping) return;
    isStopping = true;
    void stop().finally(() => process.exit(0));
  };
  process.on('SIGINT', once);
  process.on('SIGTERM', once);
}

/** Whether a database server waits for its disk. */
async function waitForDisk(server: ServerLogin, isWaited: boolean): Promise<void> {
  const client = new pg.Client({ ...server, database: 'postgres' });
  await client.connect();
  await client.query(isWaited ? 'ALTER SYSTEM RESET fsync' : 'ALTER SYSTEM SET fsync = off');
  await client.query('SELECT pg_reload_conf()');
  // What was written before is on the disk then.
  if (isWaited) await client.query('CHECKPOINT');
  await client.end();
}
