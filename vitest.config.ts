import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { defineConfig } from 'vitest/config';
import LongestFirst from './tests/support/longest-first.js';

process.env.TESSARION_TEST_TIMES ??= join(tmpdir(), `tessarion-times-${process.pid}.jsonl`);

/** `--changed` follows imports to what was changed, and so to sources; other runs take what was built of them. */
const sources = process.argv.includes('--changed')
  ? [
      { find: /^@tessarion\/([^/]+)$/, replacement: `${resolve('packages')}/$1/src/index.ts` },
      { find: /^@tessarion\/([^/]+)\/(.+)$/, replacement: `${resolve('packages')}/$1/src/$2.ts` },
    ]
  : [];

export default defineConfig({
  resolve: { alias: sources },
  test: {
    globalSetup: 'tests/support/template-cluster.ts',
    include: ['packages/*/test/**/*.test.ts', 'tests/**/*.test.ts'],
    reporters: ['default', './tests/support/where-time-goes.ts'],
    // Generous: these end tests that hang, and say nothing of speed.
    testTimeout: 180_000,
    hookTimeout: 240_000,
    expect: { poll: { timeout: 30_000 } },
    maxWorkers: 2,
    ...(process.argv.some((one) => one.startsWith('--sequence.shuffle'))
      ? {}
      : { sequence: { sequencer: LongestFirst } }),
    // Files of one worker share the modules that they read: to read them anew takes seconds for each.
    isolate: false,
  },
});
