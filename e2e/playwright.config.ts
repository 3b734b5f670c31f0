import { defineConfig } from '@playwright/test';

export default defineConfig({
  testDir: process.env.GONVEL_PICTURES ? 'pictures' : 'walks',
  // each file has a demo of its own and waits for it half of its time
  workers: 2,
  // how long a walk takes is for the bench: where other tests take the processors, patience is all that differs
  timeout: 600_000,
  expect: { timeout: 120_000 },
  reporter: [['list']],
  use: {
    viewport: { width: 1280, height: 800 },
    // recording each step costs a third of a walk's time: asked for where a failure is looked into
    trace: process.env.GONVEL_TRACE ? 'retain-on-failure' : 'off',
    launchOptions: {
      // without a window's own machinery it takes two thirds of the processor time
      executablePath: '/usr/bin/chromium-headless-shell',
      args: [
        '--no-sandbox',
        '--disable-gpu',
        '--disable-quic',
        '--no-first-run',
        '--disable-background-networking',
        '--disable-component-update',
        '--disable-sync',
      ],
    },
  },
});
