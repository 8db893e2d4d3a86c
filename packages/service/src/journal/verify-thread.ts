import { parentPort, workerData } from 'node:worker_threads';
import pg from 'pg';
import { type Stretch, verifyStretch } from './verify-stretch.js';

// Places are whole numbers that fit.
pg.types.setTypeParser(20, Number);

parentPort?.postMessage(await verifyStretch(workerData as Stretch));
