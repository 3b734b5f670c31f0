import { expect, type Locator } from '@playwright/test';

import { withDemo } from '../support/demo';
import { socksProxy } from '../support/proxy';
import { items } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

test('from an empty console to the first change in at most 12 clicks and typed fields', async ({ page, demo }) => {
  let steps = 0;
  const click = async (what: Locator) => {
    steps += 1;
    await what.click();
  };
  const type = async (what: Locator, text: string) => {
    steps += 1;
    await what.fill(text);
  };
  await page.goto('/');
  await click(page.getByRole('link', { name: 'Build a source' }));
  const from = page.getByRole('region', { name: 'From', exact: true });
  await click(from.getByRole('button', { name: /PostgreSQL/ }));
  await type(from.getByLabel('Name'), 'packhouse');
  await type(from.getByLabel('Port'), String(demo.pgPort));
  await type(from.getByLabel('Database'), 'packhouse');
  await type(from.getByLabel('User'), 'gonvel');
  await type(from.getByRole('textbox', { name: 'Password' }), demo.password);
  await click(from.getByRole('button', { name: 'Save connection' }));
  await click(page.getByRole('checkbox', { name: /^blocks/ }));
  await click(page.getByRole('button', { name: 'Create and start' }));
  await click(page.getByRole('link', { name: 'packhouse.blocks' }));
  await expect(page.getByRole('article').first()).toContainText('load');
  demo.sql('packhouse', "UPDATE blocks SET variety = 'Averling Russet' WHERE id = 7");
  await click(page.getByText('As they come'));
  await expect(page.getByRole('article').first()).toContainText('Averling Russet');
  expect(steps).toBeLessThanOrEqual(12);
});

test('a table is loaded again, and the board says how far it is', async ({ page, demo }) => {
  await page.goto('/connectors');
  await page.getByRole('link', { name: 'packhouse-changes' }).click();
  const row = page.getByRole('row', { name: /public\.blocks/ });
  await expect(row.locator('[data-kind=load]')).toHaveText('4,000');
  await row.getByRole('button', { name: 'Load again' }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog).toContainText('appended to packhouse.blocks');
  await dialog.getByRole('button', { name: 'Load the table' }).click();
  await expect(row.locator('[data-kind=load]')).toHaveText('8,000');
  await expect(row).toContainText('done');

  // the report stays with the connector, and is made again
  const preflight = page.getByRole('region', { name: 'Preflight' });
  await expect(preflight).toContainText('Everything it needs is there');
  demo.sql('packhouse', 'ALTER TABLE blocks REPLICA IDENTITY FULL');
  await preflight.getByRole('button', { name: 'Check again' }).click();
  await expect(preflight).toContainText(/It may run; 1 of \d+ checks warn/);
  await expect(preflight).toContainText('every update and delete writes the whole old row to the log');
  demo.sql('packhouse', 'ALTER TABLE blocks REPLICA IDENTITY NOTHING');
  await preflight.getByRole('button', { name: 'Check again' }).click();
  await preflight.getByRole('button', { name: 'Do it for me' }).click();
  await expect(preflight).toContainText('Everything it needs is there');
  expect(demo.sql('packhouse', "SELECT relreplident FROM pg_class WHERE relname = 'blocks'")).toBe('d');
});

test('5,000 tables are searched as one types, named by a template, and a fault is mended in place', async ({
  page,
  demo,
}) => {
  demo.sql(
    'packhouse',
    `DO $$ BEGIN CREATE SCHEMA yard; FOR n IN 1..5000 LOOP
       EXECUTE format('CREATE TABLE yard.row_%s (id bigint PRIMARY KEY, trees int)', n);
     END LOOP; ALTER TABLE yard.row_4711 REPLICA IDENTITY NOTHING; END $$`,
  );
  await page.goto('/connectors/new?kind=source');
  await page.getByRole('combobox', { name: 'Connection' }).click();
  await page.getByRole('option', { name: 'packhouse' }).click();
  const which = page.getByRole('region', { name: 'Which tables' });
  await expect(which).toContainText('0 of 5,006 chosen');
  await which.getByLabel('Search tables').fill('row_4711');
  await which.getByRole('checkbox').first().check();
  await expect(page.getByLabel('Topic for yard.row_4711')).toHaveValue('packhouse.yard.row_4711');
  await page.getByLabel('Topics are named').fill('site-2.{table}');
  await expect(page.getByLabel('Topic for yard.row_4711')).toHaveValue('site-2.row_4711');
  await page.getByLabel('Copy the rows that are there first').uncheck();
  await expect(page.getByLabel('Name of the connector')).toHaveValue('packhouse-changes-2');
  await page.getByRole('button', { name: 'Create and start' }).click();
  const finish = page.getByRole('region', { name: 'Guarantee and start' });
  await expect(finish).toContainText('Nothing was created');
  await finish.getByRole('button', { name: 'Do it for me' }).click();
  await expect(finish).toContainText('Everything it needs is there');
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByRole('heading', { name: 'packhouse-changes-2' })).toBeVisible();
  await expect(page.getByRole('row', { name: /yard\.row_4711/ })).toContainText('not asked for');
});

test('a connection is encrypted as it is told, and its further parts are kept', async ({ page, demo }) => {
  await page.goto('/connections?new=1');
  const dialog = page.getByRole('dialog');
  await dialog.getByRole('button', { name: /PostgreSQL/ }).click();
  await dialog.getByLabel('Name').fill('packhouse-2');
  await dialog.getByLabel('Port').fill(String(demo.pgPort));
  await dialog.getByLabel('Database').fill('packhouse');
  await dialog.getByLabel('User').fill('gonvel');
  await dialog.getByRole('textbox', { name: 'Password', exact: true }).fill(demo.password);
  await dialog.getByRole('combobox', { name: 'Encryption' }).click();
  await page.getByRole('option', { name: /^verify/ }).click();
  await dialog.getByLabel('Certificate authority').fill('my certificate');
  await dialog.getByRole('button', { name: 'Save connection' }).click();
  await expect(dialog).toContainText('there is no certificate to trust');
  await dialog.getByLabel('Certificate authority').fill('');
  await dialog.getByRole('combobox', { name: 'Encryption' }).click();
  await page.getByRole('option', { name: /^require/ }).click();
  await dialog.getByRole('button', { name: 'Save connection' }).click();
  await expect(dialog).toContainText('does not encrypt sessions');
  await dialog.getByRole('combobox', { name: 'Encryption' }).click();
  await page.getByRole('option', { name: /^prefer/ }).click();
  await dialog.locator('summary', { hasText: 'Login and session' }).click();
  await dialog.getByLabel('Settings of the session').fill('lock_timeout=soon');
  await dialog.getByRole('button', { name: 'Save connection' }).click();
  await expect(dialog).toContainText('the server refuses a setting of the session');
  await dialog.getByLabel('Settings of the session').fill('lock_timeout=5s');
  // the way there: what is wrong stands at its field, which is shown
  await dialog.locator('summary', { hasText: 'The way there' }).click();
  await dialog.getByLabel('Reached from').fill('site=packhouse');
  await dialog.getByRole('button', { name: 'Test' }).click();
  await expect(dialog).toContainText('reached from site=packhouse, and no runner with these labels is there');
  await dialog.getByLabel('Reached from').fill('');
  await dialog.getByRole('combobox', { name: 'Reached through' }).click();
  await page.getByRole('option', { name: /SOCKS5/ }).click();
  await dialog.getByRole('button', { name: 'Test' }).click();
  await expect(dialog).toContainText("the SOCKS5 proxy's host is not set");
  const proxy = await socksProxy('picker', 'discovery');
  await dialog.getByLabel('Its host').fill('127.0.0.1');
  await dialog.getByLabel('Port').last().fill(String(proxy.port));
  await dialog.getByLabel('User there').fill('picker');
  await dialog.getByRole('textbox', { name: 'Password there' }).fill('russet');
  await dialog.getByRole('button', { name: 'Test' }).click();
  await expect(dialog).toContainText('refuses user "picker" with this password');
  await dialog.getByRole('textbox', { name: 'Password there' }).fill('discovery');
  await dialog.getByRole('button', { name: 'Test' }).click();
  await expect(dialog).toContainText('Answered in');
  await dialog.getByRole('button', { name: 'Save connection' }).click();
  await expect(page.getByRole('row', { name: /packhouse-2/ })).toContainText('through 127.0.0.1');
  proxy.end();
  await expect(page.getByRole('button', { name: 'packhouse-2' })).toBeVisible();
  const saved = await items<{ name: string; settings: object }>(page, 'connections');
  expect(saved.find((c) => c.name === 'packhouse-2')?.settings).toEqual({ lock_timeout: '5s' });
});

test('a connection that another changed meanwhile is not overwritten', async ({ page }) => {
  const connections = '/api/v1/connections';
  const made = (seed: number) => ({ name: 'weighbridge', kind: 'generator', seed });
  expect((await page.request.post(connections, { data: made(1) })).status()).toBe(201);
  await page.goto('/connections');
  await page.getByRole('button', { name: 'weighbridge' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByLabel('Seed').fill('3');
  const headers = { 'If-Match': '"1"' };
  const other = await page.request.put(`${connections}/weighbridge`, { data: made(2), headers });
  expect([other.status(), other.headers()['etag']]).toEqual([200, '"2"']);
  await dialog.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(dialog.getByRole('alert')).toContainText('the connection weighbridge was changed since you read it');
  const seed = async () =>
    ((await (await page.request.get(`${connections}/weighbridge`)).json()) as { seed: number }).seed;
  expect(await seed()).toBe(2);
  // what it is now is there when it is opened again
  await page.reload();
  await page.getByRole('button', { name: 'weighbridge' }).click();
  await expect(dialog.getByLabel('Seed')).toHaveValue('2');
  await dialog.getByLabel('Seed').fill('3');
  await dialog.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(dialog).toHaveCount(0);
  expect(await seed()).toBe(3);
});
