import { execFileSync } from 'node:child_process';
import { join } from 'node:path';

import { expect, type Page } from '@playwright/test';

import { withDemo, type Demo } from '../support/demo';

const test = withDemo();

async function open(page: Page, connector: string) {
  await page.goto('/connectors');
  await page.getByRole('link', { name: connector, exact: true }).click();
  await expect(page.getByRole('heading', { name: connector, level: 1 })).toBeVisible();
}

/** What of one table differs between the packhouse and the settlement: the number of its rows and their sum. */
function sums(demo: Demo): { source: string; target: string } {
  const sum = 'SELECT count(*), sum(weight_kg) FROM bins';
  return { source: demo.sql('packhouse', sum), target: demo.asked('settlement', sum) };
}

async function equal(demo: Demo) {
  await expect
    .poll(() => {
      const { source, target } = sums(demo);
      return source === target;
    })
    .toBe(true);
}

test('an older copy of the log is put back under the running server, and everything lost is brought again', async ({
  page,
  demo,
}) => {
  await equal(demo);
  const dump = join(demo.home, 'gonvel.dump');
  demo.program('pg_dump', '-Fc', '-f', dump, 'gonvel');
  demo.sql('packhouse', 'UPDATE bins SET weight_kg = weight_kg + 1 WHERE id % 40 = 0');
  demo.sql('packhouse', 'DELETE FROM bins WHERE id % 1000 = 3');
  await equal(demo);
  // the server goes on meanwhile: into one that is restored in part it would write
  demo.sql('postgres', 'CREATE DATABASE restored');
  demo.program('pg_restore', '-d', 'restored', dump);
  demo.sql('postgres', 'DROP DATABASE gonvel WITH (FORCE)');
  demo.sql('postgres', 'ALTER DATABASE restored RENAME TO gonvel');
  demo.sql('packhouse', 'DELETE FROM bins WHERE id % 1000 = 4');

  // both sides stop and say so; nothing is taken for delivered
  await open(page, 'packhouse-changes');
  await expect(
    page.getByRole('alert').filter({ hasText: /rolled back.*bytes of the server's log between them are lost/ }),
  ).toBeVisible();
  await open(page, 'settlement-tables');
  await expect(
    page.getByRole('alert').filter({ hasText: /this target is ahead of it: partition 0 of packhouse.bins/ }),
  ).toBeVisible();
  const checked = demo.command('check-restored');
  expect(checked.code).toBe(4);
  expect(checked.said).toMatch(/packhouse-changes +source +differs +the topic log was rolled back/);
  expect(checked.said).toMatch(/coldstore-warmth +topics +agrees/);

  // the source begins anew, with its tables emptied
  await open(page, 'packhouse-changes');
  await page.getByRole('tab', { name: 'Positions' }).click();
  await page.getByRole('button', { name: 'Begin anew' }).click();
  const anew = page.getByRole('dialog');
  await expect(anew.getByRole('radio', { name: 'Begin empty' })).toBeChecked();
  await anew.getByRole('textbox').fill('packhouse-changes');
  await anew.getByRole('button', { name: 'Begin anew' }).click();
  await expect(anew).toBeHidden();

  // the sink goes back to where both agree
  await open(page, 'settlement-tables');
  await page.getByRole('button', { name: 'Pause' }).click();
  await page.getByRole('tab', { name: 'Positions' }).click();
  await expect(page.getByText('settlement is ahead of it in 3 partitions.')).toBeVisible();
  await expect(page.getByText('paused').first()).toBeVisible();
  await page.getByRole('button', { name: 'Move it' }).click();
  const moving = page.getByRole('dialog');
  await expect(moving.getByRole('combobox', { name: 'To' })).toHaveValue('where target and log agree');
  await moving.getByRole('button', { name: 'Show what this does' }).click();
  await expect(moving.getByRole('row', { name: /packhouse.bins 0/ })).toBeVisible();
  await moving.getByRole('button', { name: 'Move the sink settlement-tables' }).click();
  await expect(moving).toBeHidden();
  await page.getByRole('button', { name: 'Resume' }).click();
  await expect(page.getByText('following').first()).toBeVisible();
  await equal(demo);
  demo.sql('packhouse', 'UPDATE bins SET weight_kg = weight_kg + 1 WHERE id % 50 = 0');
  await equal(demo);
});
