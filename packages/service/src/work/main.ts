/** A worker as a process: `node work/main.js` with the installation in its environment. */
void import('./worker.js').then(({ startWorker }) => startWorker());
