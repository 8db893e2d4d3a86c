import { run } from 'graphile-worker';
import type { Logger } from 'pino';
import { keptFacts } from '../forecasts/kept-facts.js';
import { keepTraffic } from '../front/traffic.js';
import { notFor } from '../ground/queue.js';
import { sendDueMail } from '../notices/mail.js';
import { mailSettings } from '../notices/mail-settings.js';
import { sendDueWebhooks } from '../notices/webhooks.js';
import { deliverDue } from '../requests/deliver.js';
import { followSources } from '../requests/follow.js';
import { lapseClaims } from '../requests/idle.js';
import { removePreviews } from '../requests/preview.js';
import { packBaseline } from '../stored/packing.js';
import { computeForecast } from '../work/forecasting.js';
import { lookAtNew } from '../work/look.js';
import { goRound } from '../work/rounds.js';
import { TransferRunner } from '../work/runner.js';
import { pullOnSchedule } from '../work/schedules.js';
import { WorkerIdentity } from '../work/worker-identity.js';
import { openInstallation } from './installation.js';

/** Works off what waits, until it is told to stop. The installation stands in the environment variables. */
export async function startWorker(): Promise<void> {
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
  keptFacts(installation).worker = identity.id;

  const queue = await run({
    connectionString: installation.recordsUrl,
    concurrency: 4,
    pollInterval: 1000,
    noHandleSignals: true,
    maxPoolSize: 6,
    forbiddenFlags: [notFor(identity.id)],
    // One at a time of each, and at most one more that waits.
    crontab: [
      '*/2 * * * * round ?queue=round&jobKey=round&max=1',
      '* * * * * schedule ?queue=schedule&jobKey=schedule&max=1',
    ].join('\n'),
    taskList: {
      transfer: async (payload) => work.run((payload as { id: string }).id),
      forecast: async (payload) => computeForecast(installation, (payload as { id: string }).id),
      round: async () => goRound(installation),
      schedule: async () => pullOnSchedule(installation),
      pack: async (payload) =>
        lookAtNew(installation, await packBaseline(installation, (payload as { id: string }).id)),
    },
  });
  await work.sweep();
  await work.wakePacking();
  const mail = mailSettings();
  const timers = [
    regularly(log, 2000, 'sweep', () => work.sweep()),
    regularly(log, 30_000, 'waking what the queue gave up', () => work.wakeUnqueued()),
    regularly(log, 2000, 'delivering what is due', () => deliverDue(installation)),
    regularly(log, 2000, 'telling other programs', () => sendDueWebhooks(installation)),
    regularly(log, 2000, 'letting go of what lies still', () => lapseClaims(installation)),
    regularly(log, 2000, 'removing previews', () => removePreviews(installation)),
    regularly(log, 20_000, 'counting visitors', () => keepTraffic(installation)),
    regularly(log, 3000, 'looking at what is asked for', () => followSources(installation)),
    ...(mail ? [regularly(log, 2000, 'mailing', () => sendDueMail(installation, mail))] : []),
  ];
  log.info({ worker: identity.id }, 'worker is ready');
  process.send?.('ready');

  let isStopping = false;
  const stop = async (): Promise<void> => {
    if (isStopping) return;
    isStopping = true;
    for (const timer of timers) clearInterval(timer);
    work.stopAll();
    await queue.stop();
    await identity.leave(work.leavesWork);
    await installation.records.destroy();
    process.exit(0);
  };
  process.on('SIGTERM', () => void stop());
  process.on('SIGINT', () => void stop());
  process.on('disconnect', () => void stop());
}

/** Does something again and again, never twice at a time. */
const regularly = (
  log: Logger,
  everyMs: number,
  what: string,
  run: () => Promise<void>,
): ReturnType<typeof setInterval> => {
  let isBusy = false;
  return setInterval(() => {
    if (isBusy) return;
    isBusy = true;
    run()
      .catch((error: unknown) => log.warn({ err: error }, `${what} failed`))
      .finally(() => {
        isBusy = false;
      });
  }, everyMs);
};
