import { appendFileSync } from 'node:fs';

/** Takes down that an attack was tried; what breaks fails its test. @param chapter what was attacked */
export const tried = (chapter: string): void =>
  appendFileSync(process.env.TESSARION_TEST_TIMES as string, `${JSON.stringify({ tried: chapter })}\n`);
