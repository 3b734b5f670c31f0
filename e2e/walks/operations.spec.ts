import { expect, type Page } from '@playwright/test';

import { accessible } from '../support/accessible';
import { withDemo } from '../support/demo';
import { ended } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

async function made(page: Page, path: string, data: object): Promise<{ id: string }> {
  const answer = await page.request.post(`/api/v1/${path}`, { data });
  expect(answer.status(), await answer.text()).toBe(201);
  return (await answer.json()) as { id: string };
}

test('what takes long is seen from anywhere, goes on without its page, and is cancelled by keyboard', async ({
  page,
}) => {
  await page.goto('/operations');
  await expect(page.getByText('Nothing runs, and nothing ran this week')).toBeVisible();
  await accessible(page);
  await made(page, 'topics', { name: 'bins.copied', partitions: 1 });
  const line = '{"timestamp":0,"partition":0,"value":"18.5"}\n';
  const data = Buffer.from(line.repeat(2_000_000));
  const begun = await page.request.post('/api/v1/topics/bins.copied/import?form=jsonl', { data });
  expect(begun.status()).toBe(202);
  const doing = page.getByRole('list', { name: 'Running' });
  await expect(doing.getByRole('listitem')).toContainText('Imports a file into bins.copied');
  await expect(doing.getByRole('progressbar')).toBeVisible();
  await expect(doing.getByRole('listitem')).toContainText(/ of 90\.0 MB/);
  await accessible(page);
  await doing.getByRole('button', { name: /^Cancel/ }).focus();
  await page.keyboard.press('Enter');
  const { state, result } = await ended(page, begun);
  expect(state).toBe('cancelled');
  const records = result.records ?? 0;
  expect(records).toBeLessThan(2_000_000);
  const over = page.getByRole('region', { name: 'Ended' });
  await expect(over.getByRole('listitem')).toContainText(`${records.toLocaleString('en-GB')} records imported`);
  await expect(doing).toHaveCount(0);
  const topic = await (await page.request.get('/api/v1/topics/bins.copied')).json();
  expect(topic).toMatchObject({ records });
  await over.getByRole('link', { name: 'bins.copied' }).click();
  await expect(page.getByRole('heading', { name: 'bins.copied' })).toBeVisible();
});

test('a connector whose system is gone for good is deleted, and what stays there is listed', async ({ page, demo }) => {
  demo.sql('gonvel', 'CREATE DATABASE orchard_office');
  const ladders = 'CREATE TABLE ladders (id int PRIMARY KEY); INSERT INTO ladders SELECT generate_series(1, 2000)';
  demo.sql('orchard_office', ladders);
  const login = { host: '127.0.0.1', port: demo.pgPort, user: 'gonvel', password: demo.password };
  const office = await made(page, 'connections', { name: 'office', database: 'orchard_office', ...login });
  const table = { schema: 'public', table: 'ladders', topic: 'office.ladders' };
  const definition = { kind: 'source', connection: office.id, tables: [table], partitions: 1 };
  const { id } = await made(page, 'connectors', { name: 'office-changes', start: true, definition });
  await page.goto(`/connectors/${id}`);
  await expect(page.locator('.value .state')).toHaveText('following');

  // a load that goes on is told where one looks at its connector
  await page.getByRole('button', { name: 'Load again' }).click();
  await page.getByRole('button', { name: 'Load the table' }).click();
  // it is asked for before one leaves the page
  const dialog = page.getByRole('dialog');
  await expect(dialog).toHaveCount(0);
  await page.goto('/operations');
  const over = page.getByRole('region', { name: 'Ended' });
  const load = over.getByRole('listitem').filter({ hasText: 'Loads public.ladders of office-changes again' });
  await expect(load).toContainText('done');

  demo.sql('gonvel', 'ALTER DATABASE orchard_office ALLOW_CONNECTIONS false');
  demo.sql('gonvel', "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = 'orchard_office'");
  await page.goto(`/connectors/${id}`);
  await page.getByRole('button', { name: 'Delete', exact: true }).click();
  await page.getByLabel(/To go on, type the name/).fill('office-changes');
  await page.getByRole('button', { name: 'Delete the connector' }).click();
  await expect(dialog).toHaveCount(0);
  await page.goto(`/connectors/${id}`);
  const doing = page.getByRole('list', { name: 'Running' });
  await expect(doing).toContainText('Removes office-changes from its system and deletes it');
  await expect(page.getByRole('alert')).toContainText(/Tries again by itself: .*orchard_office/);
  await accessible(page);
  await doing.getByRole('button', { name: 'Delete without clean-up' }).click();
  await expect(dialog).toContainText('without asking office for anything');
  await expect(dialog).toContainText(/There stays: the replication slot gonvel_/);
  await dialog.getByLabel(/To go on, type the name/).fill('office-changes');
  await dialog.getByRole('button', { name: 'Delete without clean-up' }).click();
  await expect(dialog).toHaveCount(0);
  await page.goto('/operations');
  const gone = over.getByRole('listitem').filter({ hasText: 'leaves in its system what it left there' });
  await expect(gone).toContainText('done');
  await expect(gone).toContainText(/There stays: the replication slot gonvel_/);
  await expect.poll(async () => (await page.request.get(`/api/v1/connectors/${id}`)).status()).toBe(404);
});
