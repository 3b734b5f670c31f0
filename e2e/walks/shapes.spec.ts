import { expect } from '@playwright/test';

import { withDemo } from '../support/demo';

const test = withDemo();

test.describe.configure({ mode: 'serial' });

interface Found {
  id: string;
  name: string;
  state: string;
}

test('steps are tried on real rows, what is wrong stands at its character, and a sink then writes what was shown', async ({
  page,
}) => {
  const found = async () => (await (await page.request.get('/api/v1/connectors')).json()) as Found[];
  const sink = async () => (await found()).find((c) => c.name === 'settlement-tables');
  await expect.poll(async () => (await sink())?.state, { timeout: 60_000 }).toBe('following');
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
  await expect.poll(async () => (await sink())?.state, { timeout: 30_000 }).toBe('following');
});

test('a shape that does not fit is refused before anything runs, with its step', async ({ page }) => {
  const all = (await (await page.request.get('/api/v1/connectors')).json()) as {
    id: string;
    name: string;
    version: number;
  }[];
  const source = all.find((c) => c.name === 'packhouse-changes');
  const one = (await (await page.request.get(`/api/v1/connectors/${source?.id}`)).json()) as {
    definition: object;
    version: number;
  };
  const shape = { steps: { 'public.growers': [{ step: 'drop', columns: ['id'] }] } };
  const answer = await page.request.put(`/api/v1/connectors/${source?.id}`, {
    data: { version: one.version, definition: { ...one.definition, shape } },
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
