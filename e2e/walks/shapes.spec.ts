import { expect } from '@playwright/test';

import { withDemo } from '../support/demo';
import { items } from '../support/interface';

const test = withDemo();

test.describe.configure({ mode: 'serial' });

interface Answer {
  records: unknown;
}

interface Found {
  id: string;
  name: string;
  state: string;
}

test('steps are tried on real rows, what is wrong stands at its character, and a sink then writes what was shown', async ({
  page,
}) => {
  const found = () => items<Found>(page, 'connectors');
  const sink = async () => (await found()).find((c) => c.name === 'settlement-tables');
  await expect.poll(async () => (await sink())?.state).toBe('following');
  const id = (await sink())?.id ?? '';
  await page.goto(`/connectors/${id}/edit`);
  await page.getByRole('button', { name: 'Shape packhouse.growers' }).click();
  await expect(page).toHaveURL(/shape=packhouse\.growers/);
  const steps = page.getByRole('region', { name: 'Steps' });
  const rows = page.getByRole('region', { name: 'Real rows' });
  await expect(rows).toContainText('phone');

  // hidden as it is chosen
  await steps.getByRole('button', { name: 'Add a step' }).click();
  await page.getByRole('menuitem', { name: 'Hide values' }).click();
  await steps.getByRole('combobox', { name: 'Columns' }).click();
  await page.getByRole('option', { name: 'phone' }).click();
  await page.keyboard.press('Escape');
  await steps.getByText('partly', { exact: true }).click();
  await expect(rows.locator('s').first()).toBeVisible();
  await expect(rows).toContainText('*********');

  // wrong at its character, with what to write instead
  await steps.getByRole('button', { name: 'Add a step' }).click();
  await page.getByRole('menuitem', { name: 'Add a computed column' }).click();
  await steps.getByRole('textbox', { name: 'Column', exact: true }).fill('region');
  const value = steps.getByRole('textbox', { name: 'What the column is' });
  await value.fill('upper(distrct)');
  await expect(steps.getByRole('alert')).toContainText('there is no column distrct (at character 7)');
  await expect(steps).toContainText('perhaps district');
  await value.fill('upper(district)');
  await expect(steps.getByRole('alert')).toHaveCount(0);
  await expect(rows.getByRole('row', { name: /region/ })).toContainText(/[A-Z]{4}/);

  // by keyboard: another order, and back
  await steps.getByRole('button', { name: /Add a computed column/ }).focus();
  await page.keyboard.press('Alt+ArrowUp');
  await expect(steps.locator('ol > li').first()).toContainText('Add a computed column');
  await steps.getByRole('button', { name: 'Step 1 later' }).click();

  await rows.getByRole('button', { name: 'Compare with what is in force' }).click();
  await expect(rows).toContainText(/Of 900 records, 0 come out the same.*900 change/);
  await expect(rows).toContainText('New columns: region');
  await steps.getByText('SQL', { exact: true }).click();
  await expect(steps).toContainText('upper(district) AS region');

  await page.getByRole('button', { name: 'Back to the connector' }).click();
  const changes = page.getByRole('region', { name: 'What this changes' });
  await expect(changes).toContainText('Rows of these are shaped in the new way');
  await changes.getByRole('button', { name: /Save/ }).click();
  await expect(page).toHaveURL(new RegExp(`/connectors/${id}$`));
  await expect.poll(async () => (await sink())?.state).toBe('following');
});

test('a shape that does not fit is refused before anything runs, with its step', async ({ page }) => {
  const all = await items<{
    id: string;
    name: string;
    version: number;
  }>(page, 'connectors');
  const source = all.find((c) => c.name === 'packhouse-changes');
  const one = (await (await page.request.get(`/api/v1/connectors/${source?.id}`)).json()) as {
    definition: object;
    version: number;
  };
  const shape = { steps: { 'public.growers': [{ step: 'drop', columns: ['id'] }] } };
  const answer = await page.request.put(`/api/v1/connectors/${source?.id}`, {
    data: { definition: { ...one.definition, shape } },
    headers: { 'If-Match': `"${one.version}"` },
  });
  expect(answer.status()).toBe(422);
  const said = await answer.text();
  expect(said).toContain('step 1: the key column id would be gone');
});

test('functions can be browsed, with a signature and an example each', async ({ page }) => {
  await page.goto('/connectors/new?kind=sink&topics=packhouse.bins');
  await page.getByRole('combobox', { name: 'Connection' }).click();
  await page.getByRole('option', { name: /settlement/ }).click();
  await page.getByRole('button', { name: 'Shape packhouse.bins' }).click();
  await page.getByText(/functions$/).click();
  await page.getByRole('textbox', { name: 'Find a function' }).fill('split');
  await expect(page.getByText("split_part('north/7/b', '/', 2) = 7")).toBeVisible();
  await page.getByText('Rules for many tables').click();
  await page.getByRole('button', { name: 'Add a rule' }).click();
  await expect(page.getByRole('region', { name: 'Rule 1' })).toContainText('It is for public.bins');
});

test('a connector between topics is built by hand: a lookup, a made row that fails, and what waits in quarantine', async ({
  page,
  demo,
}) => {
  await page.goto('/connectors/new?kind=topics');
  await page.getByRole('textbox', { name: 'Search topics' }).fill('bins');
  await page.getByRole('checkbox', { name: /packhouse\.bins/ }).check();
  await page.getByRole('textbox', { name: 'Topic for the rows of packhouse.bins' }).fill('bins.enriched');
  await page.getByRole('textbox', { name: 'Name of the connector' }).fill('enrich-bins');
  await page.getByRole('button', { name: 'Shape packhouse.bins' }).click();
  const steps = page.getByRole('region', { name: 'Steps' });
  const rows = page.getByRole('region', { name: 'Real rows' });
  const add = async (step: string) => {
    await steps.getByRole('button', { name: 'Add a step' }).click();
    await page.getByRole('menuitem', { name: step }).click();
  };

  await add('Look columns up');
  await steps.getByRole('combobox', { name: 'Reference topic' }).click();
  await page.getByRole('option', { name: 'packhouse.blocks' }).click();
  const press = (name: string) => steps.getByRole('button', { name, exact: true });
  if ((await steps.getByLabel('Column here', { exact: true }).count()) === 0) await press('Add a comparison').click();
  await steps.getByRole('combobox', { name: 'Column here' }).click();
  await page.getByRole('option', { name: 'block_id' }).click();
  if ((await steps.getByLabel('Its column', { exact: true }).count()) === 0) await press('Add a column').click();
  await steps.getByLabel('Its column', { exact: true }).fill('variety');
  await steps.getByLabel('is called here').fill('variety');
  await steps.getByLabel(/rows that were carried before are carried again/).check();
  await expect(rows.getByRole('row', { name: /variety/ })).toBeVisible();

  await add('Add a computed column');
  await steps.getByRole('textbox', { name: 'Column', exact: true }).fill('share');
  await steps.getByRole('textbox', { name: 'What the column is' }).fill('round(1000 / (id - 7), 3)');
  await expect(rows.getByRole('row', { name: /share/ })).toBeVisible();

  // what has not come yet is made up, and shown to fail
  await rows.getByText('Rows of your own').click();
  await rows.getByRole('button', { name: 'Make a row' }).click();
  const made = rows.getByRole('group', { name: /Made row 1/ });
  await made.getByRole('textbox', { name: 'id', exact: true }).fill('7');
  await expect(rows).toContainText('step 2 (compute): division by zero: id = 7');
  await made.getByRole('textbox', { name: 'id', exact: true }).fill('seven');
  await expect(rows.getByRole('alert')).toContainText('row 1, id');
  await made.getByRole('button', { name: 'Take made row 1 out' }).click();

  await page.getByRole('button', { name: 'Back to the connector' }).click();
  await page.getByRole('button', { name: /Create and start/ }).click();
  await expect(page.getByRole('heading', { name: 'enrich-bins' })).toBeVisible();
  await expect(page.getByRole('main')).toContainText('A record that it cannot shape waits in quarantine.');
  await expect(page.getByText('In quarantine', { exact: true })).toBeVisible();

  // the bin that failed waits by itself; all others are there, with what was looked up
  const ask = async (path: string) => (await page.request.get(`/api/v1/${path}`)).json() as Promise<Answer>;
  await expect.poll(async () => (await ask('topics/bins.enriched')).records).toBe(119_999);
  const varieties = () => items<{ value: unknown }>(page, 'topics/bins.enriched/records?limit=50');
  expect(JSON.stringify(await varieties()).includes('"variety":')).toBe(true);
  // a block is planted anew: its bins are carried again, and the log says so
  demo.sql(
    'packhouse',
    "UPDATE blocks SET variety = variety || ' II' WHERE id = (SELECT block_id FROM bins WHERE id = 9)",
  );
  const count = async () => (await ask('topics/bins.enriched')).records;
  await expect.poll(count).toBeGreaterThan(119_999);
  await page.getByRole('tab', { name: 'Log' }).click();
  await expect(page.getByRole('main')).toContainText('what rows look up changed: they were carried again');

  // the shape is changed, tried on the one that waits, and that one comes after all
  await page.getByRole('main').getByRole('link', { name: '1', exact: true }).click();
  await page.getByRole('link', { name: /division by zero/ }).click();
  await page.getByRole('link', { name: 'Change the shape on these' }).click();
  await expect(page.getByRole('main')).toContainText('tried on what waits in quarantine');
  await expect(rows).toContainText('division by zero: id = 7');
  await steps.getByRole('button', { name: /Add a computed column/ }).click();
  await steps.getByRole('textbox', { name: 'What the column is' }).fill('round(1000 / nullif(id - 7, 0), 3)');
  await expect(rows).not.toContainText('division by zero');
  await page.getByRole('button', { name: 'Back to the connector' }).click();
  await page.getByRole('button', { name: /Save as version/ }).click();
  // the page that it is changed on has the same heading: who leaves that one too early has saved nothing
  await expect(page).toHaveURL(/\/connectors\/[^/]+$/);
  const before = (await count()) as number;
  await page.goto('/quarantine');
  await page.getByRole('button', { name: /Try it again|Try all/ }).click();
  await expect.poll(count).toBeGreaterThan(before);
  await expect(page.getByRole('main')).toContainText('Nothing');
});
