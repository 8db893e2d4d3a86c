import { type ChildProcess, fork } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { openSync } from 'node:fs';
import * as fs from 'node:fs/promises';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { freePort, PrivateCluster } from '@tessarion/cluster';
import { WebHost } from '@tessarion/demo-site';
import { becomeAdministrator, fillStudio, prepareStudio } from './fill.js';
import { bringCrew, COLLEAGUES, mailOf } from './people.js';
import { tellRequests } from './requests.js';
import { DEMO_PERSON } from './scenario.js';
import { Visitors } from './visitors.js';

interface Remembered {
  readonly password: string;
  readonly webHostPort: number;
  filled: boolean;
  token?: string;
}

/** Starts the demo, prints the console's address and a login, and runs until stopped. @param data where it lies */
export async function startDemo(data: string): Promise<void> {
  const startedAt = Date.now();
  const say = (text: string): void => void process.stdout.write(`${text}\n`);

  await fs.mkdir(join(data, 'hosts'), { recursive: true });
  const file = join(data, 'demo.json');
  const remembered: Remembered = await fs.readFile(file, 'utf8').then(
    (text) => JSON.parse(text),
    async () => ({
      password: `harbour-${randomBytes(6).toString('base64url')}`,
      webHostPort: await freePort(),
      filled: false,
    }),
  );
  const remember = (): Promise<void> => fs.writeFile(file, JSON.stringify(remembered), { mode: 0o600 });
  await remember();

  const cluster = await PrivateCluster.at(join(data, 'site-databases'));
  const server = await cluster.start({ fsync: 'on', max_connections: '400' });
  const hosts = join(data, 'hosts');
  const webHost = new WebHost(hosts);
  await webHost.listen(remembered.webHostPort);

  const log = openSync(join(data, 'service.log'), 'a', 0o600);
  const cli = fileURLToPath(new URL('../../cli/dist/main.js', import.meta.url));
  const service: ChildProcess = fork(
    cli,
    ['serve', '--data', join(data, 'tessarion'), '--port', process.env.TESSARION_DEMO_PORT ?? '0'],
    { stdio: ['ignore', log, log, 'ipc'] },
  );

  let isStopping = false;
  const stop = async (): Promise<void> => {
    if (isStopping) return;
    isStopping = true;
    visitors?.stop();
    if (service.exitCode === null) {
      await new Promise<void>((done) => {
        service.once('exit', () => done());
        service.kill('SIGTERM');
      });
    }
    await webHost.close();
    await cluster.stop();
    process.exit(0);
  };
  process.on('SIGINT', () => void stop());
  process.on('SIGTERM', () => void stop());

  const ready = await new Promise<{ url: string; gatewayPort: number; firstKey?: string }>((done, reject) => {
    service.once('message', (message) => done(message as { url: string; gatewayPort: number }));
    service.once('exit', (code) =>
      reject(new Error(`The service ended with ${code}; see ${join(data, 'service.log')}.`)),
    );
  });

  if (!remembered.filled) {
    if (ready.firstKey === undefined)
      throw new Error(`An earlier start was interrupted. Remove ${data} and start again.`);
    const { client, token } = await becomeAdministrator(ready.url, ready.firstKey, remembered.password);
    const place = {
      hosts,
      server,
      webHostPort: remembered.webHostPort,
      gatewayPort: ready.gatewayPort,
      url: ready.url,
    };
    await prepareStudio(client, place, fileURLToPath(new URL('../profiles', import.meta.url)));
    await fillStudio(client, place, say);
    const crew = await bringCrew(client, ready.url, remembered.password);
    await tellRequests({ client, crew, place });
    say('change requests are on their way');
    remembered.filled = true;
    remembered.token = token;
    await remember();
  }

  const visitors = new Visitors(ready.gatewayPort, 4000);
  visitors.start();
  say(`
Ready after ${((Date.now() - startedAt) / 1000).toFixed(0)} s.
Console   ${ready.url}
Login     ${DEMO_PERSON.mail}
Also      ${Object.values(COLLEAGUES)
    .map((one) => `${mailOf(one)} (${one.role})`)
    .join(', ')}
Password  ${remembered.password}
A site    http://threadmill.localhost:${ready.gatewayPort}  (editors: editor / editor-of-the-demo)
Commands  TESSARION_URL=${ready.url} TESSARION_TOKEN=${remembered.token} bin/tessarion site list
Stop it with Ctrl-C; it goes on where it was at the next start.`);
  process.send?.('ready');
}
