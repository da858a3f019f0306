import { defineConfig } from 'vitest/config';

/** The tests that deliberate faults are held against: those of what is computed and decided, without sockets, processes and browsers. */
/** Most of core is held by its own tests; without the slower ones a fault takes a second. */
const CORE_ONLY = process.env['TENEDOR_MUTANTS'] === 'core';

export default defineConfig({
  test: {
    include: [
      'tests/core/**/*.test.ts',
      ...(CORE_ONLY
        ? []
        : ['tests/service/{deliver,limits,sign-in-guard,password-checks,queue-model}.test.ts', 'tests/store/store.test.ts']),
    ],
    // It measures time, which means nothing in code that counts its branches.
    exclude: ['tests/core/linear.test.ts'],
    testTimeout: 120_000,
  },
});
