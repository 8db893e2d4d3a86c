import { parentPort, workerData } from 'node:worker_threads';
import pg from 'pg';
import { type Stretch, verifyStretch } from './verify-stretch.js';

// Places are whole numbers that fit.
pg.types.setTypeParser(20, Number);

void verifyStretch(workerData as Stretch).then((verified) => parentPort?.postMessage(verified));
