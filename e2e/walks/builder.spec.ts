import { expect, type Page } from '@playwright/test';

import { withDemo } from '../support/demo';
import { confirmed } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

async function choose(page: Page, label: string, option: string | RegExp) {
  await page.getByRole('combobox', { name: label }).click();
  await page.getByRole('option', { name: option }).click();
}

async function connection(page: Page, demo: { pgPort: number; password: string }, name: string) {
  const body = { name, host: '127.0.0.1', port: demo.pgPort, database: name, user: 'gonvel', password: demo.password };
  expect((await page.request.post('/api/v1/connections', { data: body })).status()).toBe(201);
}

test('what goes through is seen while it is chosen: columns, key, rows, form', async ({ page, demo }) => {
  await connection(page, demo, 'packhouse');
  await connection(page, demo, 'settlement');
  demo.sql(
    'packhouse',
    "CREATE TABLE tags (bin bigint NOT NULL, label text NOT NULL, UNIQUE (bin, label)); ALTER TABLE tags REPLICA IDENTITY FULL; INSERT INTO tags VALUES (1, 'north')",
  );
  await page.goto('/connectors/new?kind=source');
  await choose(page, 'Connection', 'packhouse');
  await page.getByRole('checkbox', { name: /^blocks/ }).check();
  const sample = page.getByRole('region', { name: 'What goes through of blocks' });
  await expect(sample.getByRole('row', { name: /variety/ })).toBeVisible();
  await expect(sample.locator('pre')).toContainText('"change": "load"');
  await sample.getByRole('checkbox', { name: 'Capture variety' }).uncheck();
  await expect(sample.locator('pre')).not.toContainText('variety');
  await page.getByText('The new row').click();
  await page.getByText('JSON', { exact: true }).click();
  await expect(sample.locator('pre')).not.toContainText('"change"');

  // a condition that is not understood is told where it stands, and the rows stay in sight
  await sample.getByLabel('Load only rows where').fill('no_such > 1');
  await expect(sample).toContainText('there is no column no_such');
  await sample.getByLabel('Load only rows where').fill('id <= 10');
  await expect(sample).not.toContainText('cannot be used');

  // a table without a primary key gets its key from the sample
  await page.getByRole('checkbox', { name: /^tags/ }).check();
  const tags = page.getByRole('region', { name: 'What goes through of tags' });
  await expect(tags).toContainText('no primary key');
  await page.getByRole('button', { name: 'Check only' }).click();
  await expect(page.getByRole('region', { name: 'Which tables' })).toContainText('has no primary key');
});

test('a connector is created without starting: checked, and nothing of it in the source yet', async ({
  page,
  demo,
}) => {
  await page.goto('/connectors/new?kind=source');
  await choose(page, 'Connection', 'packhouse');
  await page.getByRole('checkbox', { name: /^tags/ }).check();
  await page.getByLabel('Name of the connector').fill('rooms-later');
  await page.getByRole('button', { name: 'Create without starting' }).click();
  await expect(page.getByRole('region', { name: 'Which tables' })).toContainText('has no primary key');
  await expect(page.getByText('Nothing was created')).toBeVisible();
  await page.getByRole('checkbox', { name: /^tags/ }).uncheck();
  await page.getByRole('checkbox', { name: /^rooms/ }).check();
  await page.getByRole('button', { name: 'Create without starting' }).click();
  await expect(page.getByRole('heading', { name: 'rooms-later' })).toBeVisible();
  await expect(page.getByRole('region', { name: 'Preflight' })).toContainText('Everything it needs is there, checked');
  expect(demo.sql('packhouse', 'SELECT count(*) FROM pg_replication_slots')).toBe('0');
  const id = page.url().split('/').pop() ?? '';
  await confirmed(page, 'delete', `connectors/${id}`);
});

test('what lacks something is put aside as a draft, gone on with by a colleague, and goes when it is created', async ({
  page,
}) => {
  await page.goto('/connectors/new?kind=source');
  await choose(page, 'Connection', 'packhouse');
  await page.getByLabel('Name of the connector').fill('rooms-of-today');
  await page.getByLabel('Chunks at a time').fill('4');
  await expect(page.getByText('Choose at least one table.')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Create and start' })).toBeDisabled();
  await page.getByRole('button', { name: 'Save as a draft' }).click();
  const drafts = page.getByRole('region', { name: 'Unfinished drafts' });
  await expect(drafts.getByRole('listitem')).toContainText('Choose at least one table.');
  await drafts.getByRole('link', { name: 'Go on' }).click();
  const address = page.url();
  await expect(page.getByLabel('Chunks at a time')).toHaveValue('4');
  await page.getByRole('checkbox', { name: /^rooms/ }).check();

  // a manifest with a fault is put aside with it, and its fault is told again
  await page.getByText('Manifest', { exact: true }).click();
  const text = page.getByLabel('Manifest of the connector');
  await expect(text).toHaveValue(/chunks: 4/);
  await text.fill((await text.inputValue()).replace('chunks: 4', 'chunks: few'));
  await expect(page.getByText(/^Line \d+/)).toBeVisible();
  await page.getByRole('button', { name: 'Save as a draft' }).click();
  await expect(drafts.getByRole('listitem')).toContainText('The manifest has a fault');
  const first = await page.context().newPage();
  await first.goto(`${address}&as=manifest`);
  await expect(first.getByLabel('Manifest of the connector')).toHaveValue(/chunks: few/);
  await expect(first.getByText(/^Line \d+/)).toBeVisible();

  // two at one draft: who saves later is told, and need not lose the work
  await page.goto(address);
  await page.getByLabel('Name of the connector').fill('');
  await page.getByRole('button', { name: 'Save as a draft' }).click();
  await expect(drafts.getByRole('listitem')).toContainText('No name yet');
  await first.getByRole('button', { name: 'Save as a draft' }).click();
  await expect(first.getByRole('alert')).toContainText('changed since you read it');
  await first.getByRole('button', { name: 'Save as another draft' }).click();
  await expect(first.getByRole('region', { name: 'Unfinished drafts' }).getByRole('listitem')).toHaveCount(2);
  await first.close();

  await page.goto(address);
  await page.getByLabel('Name of the connector').fill('rooms-of-today');
  await page.getByText('Manifest', { exact: true }).click();
  await text.fill((await text.inputValue()).replace('chunks: few', 'chunks: 2'));
  await page.getByRole('button', { name: 'Create without starting' }).click();
  await expect(page.getByRole('heading', { name: 'rooms-of-today' })).toBeVisible();
  const id = page.url().split('/').pop() ?? '';
  await page.goto('/connectors');
  await expect(drafts.getByRole('listitem')).toHaveCount(1);
  // what was asked stays asked while the last connector goes
  await expect(page.getByRole('row', { name: /rooms-of-today/ })).toBeVisible();
  await drafts.getByRole('button', { name: 'Discard rooms-of-today' }).click();
  await confirmed(page, 'delete', `connectors/${id}`);
  await expect(page.getByText('Nothing moves yet')).toBeVisible();
  await drafts.getByRole('button', { name: 'Discard what was chosen' }).click();
  await expect(drafts).toHaveCount(0);
});

test('the manifest says the same, both ways, with faults at their lines', async ({ page }) => {
  await page.goto('/connectors/new?kind=source');
  await choose(page, 'Connection', 'packhouse');
  await page.getByRole('checkbox', { name: /^blocks/ }).check();
  await page.getByText('By their names, also those made later').click();
  await page.getByLabel('Tables named like').fill('public.b*');
  await expect(page.getByRole('region', { name: 'Which tables' })).toContainText('1 more found by name');
  await page.getByLabel('Chunks at a time').fill('3');
  await page.getByText('Manifest', { exact: true }).click();
  const text = page.getByLabel('Manifest of the connector');
  await expect(text).toHaveValue(/chunks: 3/);
  const written = await text.inputValue();
  expect(written).toContain('include:\n    - public.b*');
  await text.fill(written.replace('chunks: 3', 'chunks: many'));
  const line = written.split('\n').findIndex((l) => l.includes('chunks: 3')) + 1;
  await expect(page.getByText(`Line ${line},`)).toBeVisible();
  await text.fill(written.replace('chunks: 3', 'chunks: 5').replace('packhouse.blocks', 'site.blocks'));
  await expect(page.getByText('It is read as you type')).toBeVisible();
  await page.getByText('Form', { exact: true }).click();
  await expect(page.getByLabel('Chunks at a time')).toHaveValue('5');
  await expect(page.getByLabel('Topic for public.blocks')).toHaveValue('site.blocks');
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByRole('row', { name: /public\.blocks/ })).toContainText('done');
  // the table found by its name is carried too
  await expect(page.getByRole('row', { name: /public\.bins/ })).toContainText('done');
});

test('an edit says what it will do, is a version, and is taken back', async ({ page, demo }) => {
  await page.goto('/connectors');
  await page.getByRole('link', { name: 'packhouse-changes' }).click();
  await page.getByRole('link', { name: 'Edit' }).click();
  const effect = page.getByRole('region', { name: 'What this changes' });
  await expect(effect).toContainText('Nothing yet');
  await page.getByRole('checkbox', { name: /^rooms/ }).check();
  await expect(effect).toContainText('These come in: their rows are loaded');
  await expect(effect).toContainText('public.rooms');
  // rows of what comes in may be there already
  await effect.getByRole('radio', { name: 'Begin empty' }).check();
  await expect(effect).toContainText('are removed first');
  await effect.getByRole('radio', { name: 'Remove what is gone' }).check();
  await expect(effect).toContainText('that do not come again, are removed');
  await effect.getByRole('button', { name: 'Save as version 2' }).click();
  await expect(page.getByRole('row', { name: /public\.rooms/ }).locator('[data-kind=load]')).toHaveText('60');
  await page.getByRole('tab', { name: 'History and versions' }).click();
  const versions = page.getByRole('region', { name: 'Versions' });
  const first = versions.getByRole('listitem').filter({ hasText: /^1/ });
  await first.getByRole('button', { name: 'Look at it' }).click();
  await expect(first).toContainText('These are let go of');
  await first.getByRole('button', { name: 'Go back to version 1' }).click();
  await expect(versions).toContainText('3');
  await page.getByRole('tab', { name: 'Now' }).click();
  await expect(page.getByRole('row', { name: /public\.rooms/ })).toHaveCount(0);
  const published = "SELECT count(*) FROM pg_publication_tables WHERE tablename = 'rooms'";
  await expect.poll(() => demo.asked('packhouse', published)).toBe('0');
});

test('a renamed table halts its connector, and goes on without a gap under its new name', async ({ page, demo }) => {
  await page.goto('/connectors/new?kind=source');
  await choose(page, 'Connection', 'packhouse');
  // tables are those that are there now, however short ago they were listed
  await expect(page.getByRole('checkbox', { name: /^growers/ })).toBeVisible();
  await page.getByRole('navigation').getByRole('link', { name: 'Connectors' }).click();
  // the address is there before the page: going back before that would leave the builder open as it was
  await expect(page.getByRole('heading', { name: 'Connectors', exact: true })).toBeVisible();
  demo.sql('packhouse', 'CREATE TABLE latecomers (id int PRIMARY KEY)');
  await page.goBack();
  await choose(page, 'Connection', 'packhouse');
  await expect(page.getByRole('checkbox', { name: /^latecomers/ })).toBeVisible();
  // what is chosen again stays chosen
  await choose(page, 'Connection', 'packhouse');
  await expect(page.getByRole('checkbox', { name: /^latecomers/ })).toBeVisible();
  demo.sql('packhouse', 'DROP TABLE latecomers');
  await page.getByRole('checkbox', { name: /^growers/ }).check();
  await page.getByLabel('Name of the connector').fill('growers-changes');
  await page.getByRole('button', { name: 'Create and start' }).click();
  const counts = page.getByRole('row', { name: /public\.(growers|orchardists)/ });
  await expect(counts.locator('[data-kind=load]')).toHaveText('900');
  demo.sql(
    'packhouse',
    "ALTER TABLE growers RENAME TO orchardists; INSERT INTO orchardists (id, name) VALUES (7001, 'late')",
  );
  await expect(page.getByRole('alert')).toContainText('there is no table public.growers any more');
  await page.getByRole('link', { name: 'Edit' }).click();
  const tables = page.getByRole('region', { name: 'Which tables' });
  await expect(tables).toContainText('It is not there any more');
  await tables.getByRole('checkbox', { name: 'growers' }).click();
  await tables.getByRole('checkbox', { name: /^orchardists/ }).check();
  await page.getByLabel('Topic for public.orchardists').fill('packhouse.growers');
  await page.getByRole('button', { name: 'Save as version 2' }).click();
  await expect(counts.locator('[data-kind=insert]')).toHaveText('1');
  const id = page.url().split('/').pop() ?? '';
  await confirmed(page, 'delete', `connectors/${id}`);
  demo.sql('packhouse', 'ALTER TABLE orchardists RENAME TO growers');
});

test('a sink writes history as it is told', async ({ page, demo }) => {
  await page.goto('/connectors/new?kind=sink&topics=site.blocks,site.hail');
  await choose(page, 'Connection', 'settlement');
  // a topic that is not there can be let go of
  const topics = page.getByRole('region', { name: 'From which topics' });
  await expect(topics).toContainText('There is no such topic now');
  await topics.getByRole('checkbox', { name: 'site.hail' }).click();
  await expect(topics).not.toContainText('There is no such topic now');
  await expect(page.getByRole('region', { name: /What goes through of site.blocks/ })).toContainText('"change"');
  // a target that would refuse records is told by the records that are there, and mended from here
  demo.sql('packhouse', 'UPDATE blocks SET planted_year = NULL WHERE id <= 3');
  demo.sql('settlement', 'CREATE TABLE strict_blocks (id bigint PRIMARY KEY, planted_year int NOT NULL)');
  await page.getByLabel('Table for site.blocks').fill('strict_blocks');
  const strict = page.getByRole('region', { name: 'Guarantee and start' });
  await expect(async () => {
    await page.getByRole('button', { name: 'Check only' }).click();
    await expect(strict).toContainText(/is null in 3 of the newest 1,?000 records/, { timeout: 10_000 });
  }).toPass();
  await strict.getByRole('button', { name: 'Do it for me' }).click();
  await expect(strict).not.toContainText('of the newest 1');
  await page.getByLabel('Table for site.blocks').fill('block_history');
  // what becomes of real records is seen before any is written
  const rows = page.getByRole('region', { name: 'Rows in the target' });
  await expect(rows).toContainText('hectares');
  await expect(rows).not.toContainText('valid_from');
  await choose(page, 'The tables hold', 'Row history');
  await expect(rows).toContainText('valid_from');
  await expect(page.getByText('Is marked')).toHaveCount(0);
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByRole('heading', { name: 'settlement-tables' })).toBeVisible();
  const count = 'SELECT count(*) FROM block_history';
  await expect.poll(() => demo.asked('settlement', count)).toBe('4003');
  demo.sql('packhouse', "UPDATE blocks SET variety = 'Averling Russet' WHERE id = 7");
  const states = 'SELECT count(*) FROM block_history WHERE id = 7 AND valid_to IS NOT NULL';
  await expect.poll(() => demo.asked('settlement', states)).toBe('1');

  // told to give another guarantee, it goes on where it stands, and leaves nothing of its own in the target
  const row = page.getByRole('row', { name: /public\.block_history/ });
  await expect(row.locator('[data-kind=load]')).toHaveText('4,000');
  await page.getByRole('link', { name: 'Edit' }).click();
  await choose(page, 'Each record arrives', 'At least once');
  await expect(page.getByRole('region', { name: 'What this changes' })).toContainText('guarantee: at_least_once');
  await page.getByRole('button', { name: 'Save as version 2' }).click();
  await expect(page.getByText('At least once: Gonvel keeps the position')).toBeVisible();
  const own = "SELECT count(*) FROM pg_namespace WHERE nspname = 'gonvel'";
  await expect.poll(() => demo.asked('settlement', own)).toBe('0');
  demo.sql('packhouse', "UPDATE blocks SET variety = 'Averling Blush' WHERE id = 7");
  await expect.poll(() => demo.asked('settlement', states)).toBe('2');
  await expect(row.locator('[data-kind=load]')).toHaveText('4,000');
  await page.getByRole('tab', { name: 'Positions' }).click();
  await expect(page.getByRole('region', { name: /Positions|Where it stands/ })).toContainText('site.blocks');
});
