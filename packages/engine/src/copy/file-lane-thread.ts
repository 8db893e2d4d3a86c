import { parentPort, workerData } from 'node:worker_threads';
import { EngineError, messageOf } from '../ports/errors.js';
import type { Work } from '../ports/progress.js';
import { SpoolWriter } from '../store/spool.js';
import { connectAgain, openObjects } from '../systems.js';
import type { FileLaneMessage, FileLaneOrder } from './file-lane.js';
import { copyRoot } from './files.js';
import { sourceFrom } from './sources.js';
import { TraceFinder } from './traces.js';

const REPORT_MS = 100;

const order = workerData as FileLaneOrder;
const port = parentPort as NonNullable<typeof parentPort>;
const say = (message: FileLaneMessage): void => port.postMessage(message);

const stopped = new AbortController();
port.on('message', () => stopped.abort(new EngineError('stopped', 'It was stopped.', 'Start it again.')));

let [files, bytes, reportedAt] = [0, 0, 0];
const report = (): void => {
  say({ type: 'count', files, bytes });
  [files, bytes, reportedAt] = [0, 0, performance.now()];
};
const work: Work = {
  signal: stopped.signal,
  count(done) {
    files += done.files ?? 0;
    bytes += done.bytes ?? 0;
    if (performance.now() - reportedAt > REPORT_MS) report();
  },
};

async function copyAll(): Promise<void> {
  const source = sourceFrom(order.source, connectAgain, openObjects);
  const traces = order.tracesOf && new TraceFinder(connectAgain(order.tracesOf));
  const plan = {
    ...order,
    source,
    destination: connectAgain(order.destination),
    like: connectAgain(order.like),
    traces,
  };
  let spool: SpoolWriter | undefined;
  try {
    spool = order.spool && new SpoolWriter(order.spool.path, Buffer.from(order.spool.key));
    for (const root of source.roots) await copyRoot(plan, root, spool, work);
    spool?.end();
    report();
    say({ type: 'done', traces: traces?.found ?? [] });
  } catch (error) {
    spool?.close();
    if (error instanceof EngineError)
      say({ type: 'failed', code: error.code, message: error.message, next: error.next });
    else say({ type: 'failed', code: 'command-failed', message: messageOf(error), next: 'Look at the log.' });
  }
  port.close();
}

void copyAll();
