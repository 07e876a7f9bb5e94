import { defineConfig } from "@playwright/test";

export default defineConfig({
  testDir: "e2e",
  testMatch: "*.spec.ts",
  globalSetup: "./e2e/demo.ts",
  // One demo, one story after another: the specs change what they look at.
  workers: 1,
  fullyParallel: false,
  timeout: 60_000,
  // Ten tabs on a machine of two cores take their time.
  expect: { timeout: 15_000 },
  reporter: [["line"]],
  outputDir: "test-results",
  use: {
    viewport: { width: 1280, height: 800 },
    locale: "en-GB",
    timezoneId: "Europe/Oslo",
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--disable-sync",
        "--disable-quic",
        "--no-first-run",
        "--disable-component-update",
      ],
    },
  },
});
