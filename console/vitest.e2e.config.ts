import { defineConfig } from 'vitest/config'

export default defineConfig({
  test: { testTimeout: 90_000, hookTimeout: 200_000, fileParallelism: false, include: ['**/*.test.ts'] },
})
