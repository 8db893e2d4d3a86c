import { appendFileSync } from 'node:fs';

/** What a test's time may go to beside testing. */
export type Spent = 'starting' | 'resetting' | 'waiting';

let depth = 0;

/** Does something, and takes down how long it took; what is done within it counts as part of it. */
export async function during<T>(what: Spent, work: () => Promise<T>): Promise<T> {
  if (depth > 0) return work();
  depth++;
  const start = performance.now();
  try {
    return await work();
  } finally {
    depth--;
    const line = JSON.stringify({ what, milliseconds: performance.now() - start });
    appendFileSync(process.env.TESSARION_TEST_TIMES as string, `${line}\n`);
  }
}
