import { resolve } from 'node:path';

/** The demo as a process: `node main.js DATA-FOLDER`. */
void import('./start.js').then(({ startDemo }) => startDemo(resolve(process.argv[2] ?? '.demo')));
