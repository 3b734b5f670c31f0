import { expect } from '@playwright/test';

import { withDemo } from '../support/demo';
import { items } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

test('a new user carries tables from one database into another without editing text', async ({ page, demo }) => {
  await page.goto('/');
  await expect(page.getByText('Nothing moves yet')).toBeVisible();
  await page.getByRole('link', { name: 'Build a source' }).click();

  // the connection is made in place; a wrong password is said beside its field and nothing is saved
  const from = page.getByRole('region', { name: 'From', exact: true });
  await from.getByLabel('What kind of system').fill('postgr');
  await page.keyboard.press('Enter');
  await from.getByLabel('Name').fill('packhouse');
  await from.getByLabel('Port').fill(String(demo.pgPort));
  await from.getByLabel('Database').fill('packhouse');
  await from.getByLabel('User').fill('gonvel');
  await from.getByRole('textbox', { name: 'Password' }).fill('russet');
  await from.getByRole('button', { name: 'Save connection' }).click();
  await expect(from.getByText(/refuses user "gonvel" with this password.*Remedy/)).toBeVisible();
  expect(await items(page, 'connections')).toEqual([]);
  await from.getByRole('textbox', { name: 'Password' }).fill(demo.password);
  await from.getByRole('button', { name: 'Test' }).click();
  await expect(from.getByText(/Answered in \d+ ms/)).toBeVisible();
  await from.getByRole('button', { name: 'Save connection' }).click();

  const which = page.getByRole('region', { name: 'Which tables' });
  await which.getByLabel('Search tables').fill('bl');
  await which.getByRole('checkbox', { name: /blocks/ }).check();
  await which.getByLabel('Search tables').fill('');
  for (const table of ['bins', 'growers']) await which.getByRole('checkbox', { name: new RegExp(`^${table}`) }).check();
  await expect(page.getByLabel('Topic for public.bins')).toHaveValue('packhouse.bins');
  await page.getByRole('button', { name: 'Check only' }).click();
  await expect(page.getByText('Everything it needs is there.')).toBeVisible();
  await page.getByRole('button', { name: 'Create and start' }).click();

  await expect(page.getByRole('heading', { name: 'packhouse-changes' })).toBeVisible();
  await expect(page.getByText('following').first()).toBeVisible();
  const bins = page.getByRole('row', { name: /public\.bins/ });
  await expect(bins.locator('[data-kind=load]')).toHaveText('120,000');

  await page.getByRole('link', { name: 'Deliver to a system' }).click();
  const to = page.getByRole('region', { name: 'To', exact: true });
  await to.getByRole('button', { name: 'Make a new connection' }).click();
  await to.getByLabel('Name').fill('settlement');
  await to.getByLabel('Port').fill(String(demo.pgPort));
  await to.getByLabel('Database').fill('settlement');
  await to.getByLabel('User').fill('gonvel');
  await to.getByRole('textbox', { name: 'Password' }).fill(demo.password);
  await to.getByRole('button', { name: 'Save connection' }).click();
  await expect(page.getByLabel('Table for packhouse.bins')).toHaveValue('bins');
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByRole('heading', { name: 'settlement-tables' })).toBeVisible();
  // the sink makes its tables by itself
  const tables = "SELECT count(*) FROM pg_tables WHERE tablename IN ('bins', 'blocks')";
  await expect.poll(() => demo.asked('settlement', tables)).toBe('2');
  const delivered = 'SELECT count(*) FROM bins';
  await expect.poll(() => demo.asked('settlement', delivered)).toBe('120000');
});

test('changes show in the browser and in the second database without reloading', async ({ page, demo }) => {
  await page.goto('/connectors');
  await page.getByRole('link', { name: 'settlement-tables' }).click();
  const row = page.getByRole('row', { name: /packhouse\.bins/ });
  const updates = row.locator('[data-kind=update]');
  const before = Number((await updates.innerText()).replaceAll(',', ''));
  demo.sql('packhouse', "UPDATE bins SET weight_kg = 41.5, remark = 'windfall' WHERE id = 41");
  await expect(updates).toHaveText(String(before + 1));
  expect(demo.sql('settlement', 'SELECT weight_kg, remark FROM bins WHERE id = 41')).toBe('41.5|windfall');

  // a key change is a delete and an insert; a delete deletes
  demo.sql('packhouse', 'UPDATE growers SET id = 9001 WHERE id = 1; DELETE FROM growers WHERE id = 2');
  await expect
    .poll(() => demo.asked('settlement', 'SELECT string_agg(id::text, $$,$$) FROM growers WHERE id IN (1, 2, 9001)'))
    .toBe('9001');

  await page.getByRole('link', { name: 'packhouse.bins' }).click();
  const card = page.getByRole('article').first();
  await expect(card).toContainText('update');
  await expect(card.locator('td.changed')).toHaveCount(4);
  await expect(card).toContainText('windfall');
  await card.press('r');
  await expect(card.locator('pre')).toContainText('"change": "update"');

  // the live tail, then one partition from an offset
  await page.getByText('As they come').click();
  demo.sql('packhouse', "UPDATE bins SET remark = 'seen live' WHERE id = 42");
  await expect(page.getByRole('article').first()).toContainText('seen live');
  await page.getByText('Oldest first').click();
  await page.getByRole('combobox', { name: 'Partition' }).click();
  await page.getByRole('option', { name: 'Partition 1' }).click();
  await page.getByLabel('From offset').fill('17');
  await page.getByRole('button', { name: 'Go', exact: true }).click();
  await expect(page.getByRole('article').first()).toContainText('partition 1, offset 17');
  await expect(page).toHaveURL(/order=oldest&partition=1&offset=17/);
  await page.reload();
  await expect(page.getByRole('article').first()).toContainText('partition 1, offset 17');
});

test('pause holds, resume goes on, and a killed server loses and repeats nothing', async ({ page, demo }) => {
  await page.goto('/connectors');
  await page.getByRole('link', { name: 'settlement-tables' }).click();
  await page.getByRole('button', { name: 'Pause' }).click();
  await expect(page.getByText('paused').first()).toBeVisible();
  demo.sql('packhouse', "UPDATE bins SET remark = 'while paused' WHERE id BETWEEN 100 AND 149");
  await page.waitForTimeout(1_000);
  expect(demo.sql('settlement', "SELECT count(*) FROM bins WHERE remark = 'while paused'")).toBe('0');
  await page.getByRole('button', { name: 'Resume' }).click();
  await expect
    .poll(() => demo.asked('settlement', "SELECT count(*) FROM bins WHERE remark = 'while paused'"))
    .toBe('50');

  await page.request.put('/api/v1/demo/workload', { data: { running: true, rate: 200 } });
  await page.waitForTimeout(1_500);
  await demo.kill();
  await expect(page.getByText('No answer')).toBeVisible();
  await demo.launch();
  await expect(page.getByText('following').first()).toBeVisible();
  const rows = "SELECT count(*) || ' ' || coalesce(md5(string_agg(t::text, ',' ORDER BY id)), '') FROM bins t";
  await expect.poll(() => demo.asked('settlement', rows)).toBe(demo.sql('packhouse', rows));
});

test('what a source lacks is said beside what it belongs to, and nothing is created', async ({ page, demo }) => {
  demo.sql(
    'packhouse',
    "CREATE ROLE reader LOGIN REPLICATION PASSWORD 'pippin'; GRANT SELECT ON ALL TABLES IN SCHEMA public TO reader; CREATE TABLE scribbles (note text); GRANT SELECT ON scribbles TO reader",
  );
  const connection = { name: 'reader', host: '127.0.0.1', port: demo.pgPort, database: 'packhouse', user: 'reader' };
  await page.request.post('/api/v1/connections', { data: { ...connection, password: 'pippin' } });
  await page.goto('/connectors/new?kind=source');
  await page.getByRole('combobox', { name: 'Connection' }).click();
  await page.getByRole('option', { name: 'reader' }).click();
  const which = page.getByRole('region', { name: 'Which tables' });
  await which.getByRole('checkbox', { name: /scribbles/ }).check();
  await expect(which).toContainText('It has no primary key');
  await which.getByRole('checkbox', { name: /scribbles/ }).uncheck();
  await which.getByRole('checkbox', { name: /^rooms/ }).check();
  await page.getByRole('button', { name: 'Create and start' }).click();
  const from = page.getByRole('region', { name: 'From', exact: true });
  await expect(from.getByRole('alert')).toContainText('may not create a publication');
  await expect(from.getByRole('alert')).toContainText('GRANT CREATE ON DATABASE "packhouse" TO "reader";');
  await expect(which.getByRole('alert')).toContainText('only its owner may put it in a publication');
  const connectors = await items(page, 'connectors');
  expect(connectors).toHaveLength(2);
});

test('deleting asks for the name and leaves nothing outside', async ({ page, demo }) => {
  for (const name of ['settlement-tables', 'packhouse-changes']) {
    await page.goto('/connectors');
    await page.getByRole('link', { name }).click();
    await page.getByRole('button', { name: 'Delete', exact: true }).click();
    const dialog = page.getByRole('dialog');
    const confirm = dialog.getByRole('button', { name: 'Delete the connector' });
    await expect(confirm).toBeDisabled();
    await dialog.getByLabel(/type the name/).fill(name);
    await confirm.click();
    // leaving before it is answered would call the request back
    await expect(page).toHaveURL(/\/connectors$/);
    await expect(page.getByRole('link', { name })).toHaveCount(0);
  }
  // a list still being read shows no links either: when the server no longer knows them, nothing of theirs may be left
  const known = async () => (await items(page, 'connectors')).length;
  await expect.poll(known).toBe(0);
  const left = 'SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)';
  expect(demo.sql('packhouse', left)).toBe('0');
  expect(demo.sql('settlement', "SELECT to_regnamespace('gonvel') IS NULL, count(*) > 100000 FROM bins")).toBe('t|t');
});
