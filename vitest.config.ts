import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    globalSetup: 'tests/support/template-cluster.ts',
    include: ['packages/*/test/**/*.test.ts', 'tests/**/*.test.ts'],
    // Generous: these end tests that hang, and say nothing of speed.
    testTimeout: 180_000,
    hookTimeout: 240_000,
    expect: { poll: { timeout: 30_000 } },
    maxWorkers: 2,
    // Files of one worker share the modules that they read: to read them anew takes seconds for each.
    isolate: false,
  },
});
