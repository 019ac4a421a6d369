import { defineConfig } from 'vitest/config'

export default defineConfig({
  // The waits within a test have limits of their own; this one is only for what hangs.
  test: { testTimeout: 300_000, hookTimeout: 300_000, maxWorkers: 2, include: ['**/*.test.ts'] },
})
