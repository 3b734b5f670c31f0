import { expect, type Page } from '@playwright/test';

import { withDemo } from '../support/demo';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

async function append(page: Page, topic: string, values: unknown[]) {
  const data = values.map((value, n) => ({ key: `room-${n}`, value }));
  const answer = await page.request.post(`/api/v1/topics/${topic}/records`, { data });
  expect(answer.status(), await answer.text()).toBe(200);
}

/** Replaces the text of the editor. */
async function write(page: Page, label: string, text: string) {
  await page.getByRole('textbox', { name: label }).fill(text);
}

test('a schema is inferred from what a topic holds, and a fault stands at its line', async ({ page }) => {
  const made = await page.request.post('/api/v1/topics', { data: { name: 'cold.readings', partitions: 2 } });
  expect(made.status()).toBe(201);
  await append(page, 'cold.readings', [
    { room: 3, celsius: 1.5 },
    { room: 58, celsius: 2, open: true },
  ]);
  await page.goto('/schemas');
  await expect(page.getByText('No schema yet')).toBeVisible();
  await page.getByRole('link', { name: 'Register a schema' }).first().click();
  await page.getByLabel('Name', { exact: true }).fill('cold.reading');
  await page.getByText('JSON Schema', { exact: true }).click();
  const data = page.getByRole('region', { name: 'From data' });
  await data.getByRole('combobox', { name: 'Topic' }).click();
  await page.getByRole('option', { name: 'cold.readings' }).click();
  await data.getByRole('button', { name: 'Infer' }).click();
  await expect(data).toContainText('2 values');
  const text = page.getByRole('textbox', { name: 'Text of the schema' });
  await expect(text).toContainText('"maximum": 58');
  const inferred = (await text.innerText()).replaceAll('\u00a0', ' ');
  await write(page, 'Text of the schema', '{\n  "type": "object",\n  "required": "room"\n}');
  await page.getByRole('button', { name: 'Register', exact: true }).click();
  await expect(page.getByRole('alert')).toContainText('Line 3, column');
  await write(page, 'Text of the schema', inferred);
  await page.getByRole('button', { name: 'Register', exact: true }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('cold.reading');
  await expect(page.getByRole('navigation', { name: 'Versions' })).toContainText('by the console');
});

test('a topic that is bound to it refuses what does not fit, and its records say their version', async ({ page }) => {
  await page.goto('/topics/cold.readings/settings');
  const schemas = page.getByRole('region', { name: 'Schemas' });
  await schemas.getByRole('combobox', { name: 'Values follow' }).click();
  await page.getByRole('option', { name: 'cold.reading' }).click();
  await schemas.getByRole('checkbox', { name: 'Refuse values that do not fit' }).check();
  await schemas.getByRole('button', { name: 'Bind' }).click();
  await expect(schemas.getByRole('link', { name: 'Version 1' })).toBeVisible();
  const refused = await page.request.post('/api/v1/topics/cold.readings/records', {
    data: { value: { room: 'three', celsius: 1.5 } },
  });
  expect(refused.status()).toBe(422);
  expect(await refused.text()).toContain('$.room');
  await append(page, 'cold.readings', [{ room: 4, celsius: 1.75 }]);
  await page.goto('/topics/cold.readings');
  const newest = page.getByRole('article').first();
  await expect(newest).toContainText('gonvel-schema: cold.reading:1');
  await newest.getByRole('link', { name: 'cold.reading version 1' }).click();
  await expect(page).toHaveURL(/schemas\/cold\.reading\?version=1/);
});

test('a draft says what it breaks and for whom, and is registered once it keeps the rule', async ({ page }) => {
  await page.goto('/schemas/cold.reading/about');
  const all = page.getByRole('radiogroup', { name: /^Reads past/ }).getByText('all', { exact: true });
  await all.click();
  await expect(page.getByRole('region', { name: 'Rule' })).toContainText('all earlier versions');
  await page.getByRole('textbox', { name: 'Owner' }).fill('coldstore');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByText('Kept by coldstore')).toBeVisible();
  await page.getByRole('tab', { name: 'Next version' }).click();
  const text = page.getByRole('textbox', { name: 'Text of the draft' });
  const first = (await text.innerText()).replaceAll('\u00a0', ' ');
  await write(page, 'Text of the draft', first.replace('"maximum": 58', '"maximum": 40'));
  const verdict = page.getByRole('region', { name: 'Verdict' });
  await expect(verdict).toContainText('It does not keep the rule');
  await expect(verdict).toContainText('$.room data may be as high as 58, at most 40 is expected');
  await expect(verdict).toContainText('To pass: leave the upper bound as it was');
  await expect(verdict.getByRole('button', { name: 'Register version 2' })).toBeDisabled();
  await expect(verdict).toContainText('It cannot read 1 of the last 3 records of cold.readings');
  await write(page, 'Text of the draft', first.replace('"maximum": 58', '"maximum": 60'));
  await expect(verdict).toContainText('It keeps the rule');
  await expect(verdict).toContainText('It reads all of the last 3 records');
  await verdict.getByLabel('Why').fill('two rooms more');
  await verdict.getByRole('button', { name: 'Register version 2' }).click();
  await expect(page.getByRole('navigation', { name: 'Versions' })).toContainText('two rooms more');
  await page.getByRole('tab', { name: 'Difference' }).click();
  await expect(page.getByRole('region', { name: 'In words' })).toContainText('maximum changed from 58 to 60');
  await page.getByText('Side by side').click();
  await expect(page.getByRole('region', { name: 'Side by side' })).toContainText('"maximum": 60');
});

test('schemas are found by the names of their fields, by keyboard alone', async ({ page }) => {
  await page.goto('/schemas');
  await page.getByLabel('Name, owner, label or field').focus();
  await page.keyboard.type('celsi');
  await expect(page.getByText('1 schema', { exact: true })).toBeVisible();
  await expect(page).toHaveURL(/q=celsi/);
  await page.keyboard.press('Tab');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('cold.reading');
  // what is used is not deleted
  await page.getByRole('tab', { name: 'Rule and owner' }).click();
  await page.getByRole('button', { name: 'Delete the schema' }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog).toContainText('the values of cold.readings');
  await expect(dialog.getByLabel(/type the name/)).toHaveCount(0);
  await expect(dialog.getByRole('button', { name: 'Delete the schema' })).toHaveCount(0);
});
