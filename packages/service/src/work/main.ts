import { run } from 'graphile-worker';
import { openInstallation } from '../installation.js';
import { mailSettings, sendDueMail } from '../notices/mail.js';
import { deliverDue } from '../requests/deliver.js';
import { computeForecast } from './forecasting.js';
import { packBaseline } from './packing.js';
import { goRound } from './rounds.js';
import { TransferRunner } from './runner.js';
import { pullOnSchedule } from './schedules.js';
import { WorkerIdentity } from './worker-identity.js';

/** A worker as a process: `node work/main.js` with the installation in its environment. */
const installation = await openInstallation('worker');
const { log } = installation;

let runner: TransferRunner | undefined;
const giveUp = (reason: string): void => {
  // Nothing may be written any more, not even a farewell: another worker may have taken over.
  log.error({ reason }, 'this worker ends at once');
  runner?.abandon(reason);
  process.exit(70);
};
const identity = await WorkerIdentity.take(installation.recordsUrl, `worker ${process.pid}`, (reason) =>
  giveUp(`the locks are lost: ${reason}`),
);
runner = new TransferRunner(installation, identity, giveUp);
const work = runner;

const queue = await run({
  connectionString: installation.recordsUrl,
  concurrency: 4,
  pollInterval: 1000,
  noHandleSignals: true,
  maxPoolSize: 6,
  // One at a time of each, and at most one more that waits.
  crontab: [
    '*/2 * * * * round ?queue=round&jobKey=round&max=1',
    '* * * * * schedule ?queue=schedule&jobKey=schedule&max=1',
    '* * * * * deliver ?queue=deliver&jobKey=deliver&max=1',
  ].join('\n'),
  taskList: {
    transfer: async (payload) => work.run((payload as { id: string }).id),
    forecast: async (payload) => computeForecast(installation, (payload as { id: string }).id),
    round: async () => goRound(installation),
    schedule: async () => pullOnSchedule(installation),
    deliver: async () => deliverDue(installation),
    pack: async (payload) => packBaseline(installation, (payload as { id: string }).id),
  },
});
await work.sweep();
await work.wakePacking();
const mail = mailSettings();
let isMailing = false;
const mailing = setInterval(() => {
  if (isMailing || !mail) return;
  isMailing = true;
  sendDueMail(installation, mail)
    .catch((error: unknown) => log.warn({ err: error }, 'mail could not be sent'))
    .finally(() => {
      isMailing = false;
    });
}, 2000);
const sweep = setInterval(() => {
  work.sweep().catch((error: unknown) => log.warn({ err: error }, 'sweep failed'));
}, 2000);
log.info({ worker: identity.id }, 'worker is ready');
process.send?.('ready');

let isStopping = false;
const stop = async (): Promise<void> => {
  if (isStopping) return;
  isStopping = true;
  clearInterval(sweep);
  clearInterval(mailing);
  work.stopAll();
  await queue.stop();
  await identity.leave();
  await installation.records.destroy();
  process.exit(0);
};
process.on('SIGTERM', () => void stop());
process.on('SIGINT', () => void stop());
process.on('disconnect', () => void stop());
