/** A worker as a process: `node main/worker-main.js` with the installation in its environment. */
void import('./worker.js').then(({ startWorker }) => startWorker());
