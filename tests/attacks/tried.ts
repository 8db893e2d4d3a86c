import { appendFileSync } from 'node:fs';
import { expect } from 'vitest';

/** Takes down that an attack was tried; what breaks fails its test. @param what one of those that `CHAPTERS` hold */
export const tried = (what: string): void => {
  const { testPath, currentTestName } = expect.getState();
  const line = { tried: what, test: `${testPath} ${currentTestName}` };
  appendFileSync(process.env.TESSARION_TEST_TIMES as string, `${JSON.stringify(line)}\n`);
};
