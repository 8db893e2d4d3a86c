/** The command line as a process: `node main.js COMMAND …`. */
void import('./run.js').then(({ run }) => run());
