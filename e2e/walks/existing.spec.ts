import { expect, type Page } from '@playwright/test';

import { withDemo } from '../support/demo';
import { confirmed } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

async function choose(page: Page, label: string, option: string | RegExp) {
  await page.getByRole('combobox', { name: label }).click();
  await page.getByRole('option', { name: option }).click();
}

/** Asks for a connector of growers; the rest is the page's. */
async function growers(page: Page, kind: 'source' | 'sink') {
  await page.goto(
    kind === 'source' ? '/connectors/new?kind=source' : '/connectors/new?kind=sink&topics=packhouse.growers',
  );
  await choose(page, 'Connection', kind === 'source' ? 'packhouse' : 'settlement');
  if (kind === 'source') {
    await page.getByRole('checkbox', { name: /^growers/ }).check();
    await page.getByLabel('Topic for public.growers').fill('packhouse.growers');
  }
}

async function removed(page: Page) {
  const id = page.url().split('/').pop() ?? '';
  await confirmed(page, 'delete', `connectors/${id}`);
  await expect.poll(async () => (await page.request.get(`/api/v1/connectors/${id}`)).status()).toBe(404);
}

test('a connector that is made again is asked what becomes of the rows that are there', async ({ page, demo }) => {
  for (const name of ['packhouse', 'settlement']) {
    const login = { user: 'gonvel', password: demo.password };
    const body = { name, host: '127.0.0.1', port: demo.pgPort, database: name, ...login };
    expect((await page.request.post('/api/v1/connections', { data: body })).status()).toBe(201);
  }
  // the first time there is nothing, and nothing is asked
  await growers(page, 'source');
  await page.getByRole('button', { name: 'Create and start' }).click();
  const counts = page.getByRole('row', { name: /public\.growers/ });
  await expect(counts.locator('[data-kind=load]')).toHaveText('900');
  await removed(page);

  // rows go while nobody looks
  demo.sql('packhouse', 'DELETE FROM growers WHERE id IN (SELECT id FROM growers ORDER BY id LIMIT 41)');
  await growers(page, 'source');
  await page.getByRole('button', { name: 'Create and start' }).click();
  const there = page.getByRole('region', { name: 'Rows that are there already' });
  await expect(there.getByRole('alert')).toContainText('packhouse.growers holds 900 records already');
  await expect(page.getByRole('button', { name: 'Create and start' })).toBeDisabled();
  await expect(page.getByText('Say what becomes of the rows')).toBeVisible();
  await there.getByRole('radio', { name: 'Remove what is gone' }).check();
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(counts.locator('[data-kind=delete]')).toHaveText('41');
  await expect(counts.locator('[data-kind=load]')).toHaveText('859');
});

test('so is a sink, and a table that is loaded again', async ({ page, demo }) => {
  demo.sql(
    'settlement',
    "CREATE TABLE growers (id bigint PRIMARY KEY, name text); INSERT INTO growers SELECT 500000 + n, 'paper file' FROM generate_series(1, 7) n",
  );
  await growers(page, 'sink');
  await page.getByRole('button', { name: 'Check only' }).click();
  await expect(page.getByText('public.growers holds 7 rows already').first()).toBeVisible();
  await page.getByRole('button', { name: 'Create and start' }).click();
  const there = page.getByRole('region', { name: 'Rows that are there already' });
  await there.getByRole('radio', { name: 'Begin empty' }).focus();
  await page.keyboard.press('Space');
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect.poll(() => demo.asked('settlement', 'SELECT count(*) FROM growers')).toBe('859');
  await page.getByRole('tab', { name: 'Log' }).click();
  await expect(page.getByText('rows that were in the tables before the first delivery were removed')).toBeVisible();

  await page.goto('/connectors');
  await page.getByRole('link', { name: 'packhouse-changes' }).click();
  await page.getByRole('button', { name: /^Load/ }).first().click();
  const dialog = page.getByRole('dialog');
  await expect(dialog.getByRole('radio', { name: 'Remove what is gone' })).toBeChecked();
  await dialog.getByRole('radio', { name: 'Begin empty' }).check();
  await dialog.getByRole('button', { name: 'Load the table' }).click();
  const counts = page.getByRole('row', { name: /public\.growers/ });
  await expect(counts.locator('[data-kind=truncate]')).toHaveText('1');
  await expect.poll(() => demo.asked('settlement', 'SELECT count(*) FROM growers')).toBe('859');
});
