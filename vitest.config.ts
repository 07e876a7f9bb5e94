import { defineConfig } from "vitest/config";

export default defineConfig({
  test: {
    include: ["packages/*/test/**/*.test.ts"],
    globalSetup: ["e2e/cluster.ts"],
    testTimeout: 60_000,
    hookTimeout: 120_000,
    // Files share one PostgreSQL; each works in databases of its own.
    maxWorkers: 2,
  },
});
