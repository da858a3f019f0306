import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    include: ['tests/**/*.test.ts'],
    testTimeout: 120_000,
    hookTimeout: 120_000,
    // A busy machine is late, not wrong: what is waited for has the time that it needs.
    expect: { poll: { timeout: 60_000, interval: 20 } },
    pool: 'forks',
    maxWorkers: 2,
  },
});
