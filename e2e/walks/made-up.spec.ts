/** Made-up records: a connection of another kind, and what the builder offers of it. */
import { expect } from '@playwright/test';

import { withDemo } from '../support/demo';

const test = withDemo();

const RECIPE = `- table: weighings
  rate: 200
  rows: 600
  columns:
  - {name: id, is: number}
  - {name: weight_kg, is: decimal, from: 120, to: 430, scale: 1}
  - {name: grade, is: choice, of: {first: 2, second: 1}}
`;

test('rows of a recipe of one’s own go into a topic, and nothing is offered that the kind cannot do', async ({
  page,
}) => {
  await page.goto('/connections');
  await page.getByRole('button', { name: 'Make a connection' }).click();
  const dialog = page.getByRole('dialog');
  // found by the keyboard alone, and left again
  await expect(dialog.getByLabel('What kind of system')).toBeFocused();
  await page.keyboard.type('made');
  await expect(dialog.getByRole('listitem')).toHaveCount(1);
  await page.keyboard.press('Enter');
  await dialog.getByRole('button', { name: 'Another kind' }).click();
  await expect(dialog.getByRole('listitem')).toHaveCount(2);
  await dialog.getByRole('button', { name: /Made-up records/ }).click();
  await expect(dialog.getByLabel('Name')).toBeFocused();
  await page.keyboard.type('weighbridge');
  // what is wrong with a recipe stands at its field, with its line
  await dialog.getByLabel('Recipes of your own').fill(RECIPE.replace('rate:', 'rat:'));
  await dialog.getByRole('button', { name: 'Save connection' }).click();
  await expect(dialog).toContainText('line 2, column 3: unknown field `rat`');
  await dialog.getByLabel('Recipes of your own').fill(RECIPE);
  await dialog.getByRole('button', { name: 'Test' }).click();
  await expect(dialog).toContainText('3 can be made: picks, readings, weighings');
  await dialog.getByRole('button', { name: 'Save connection' }).click();
  await expect(page.getByRole('row', { name: /weighbridge/ })).toContainText('picks, readings, weighings, seed 1');

  // nothing that is written to can be chosen where it is to be written
  await page.goto('/connectors/new?kind=sink');
  await page.getByRole('combobox', { name: 'Connection' }).click();
  await expect(page.getByRole('option', { name: 'settlement' })).toBeVisible();
  await expect(page.getByRole('option', { name: 'weighbridge' })).toHaveCount(0);
  await page.goto('/connectors/new?kind=source');
  await page.getByRole('combobox', { name: 'Connection' }).click();
  await page.getByRole('option', { name: 'weighbridge' }).click();
  await page.getByRole('checkbox', { name: /weighings/ }).check();
  const whole = page.locator('.stages');
  await expect(whole).toContainText('It begins now');
  for (const not of ['Copy the rows that are there', 'By their names', 'Tell changes of the tables']) {
    await expect(whole).not.toContainText(not);
  }
  await expect(page.getByRole('region', { name: /What goes through/ })).toContainText('weight_kg');
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByRole('heading', { name: 'weighbridge-changes' })).toBeVisible();
  await expect(page.getByRole('row', { name: /recipes\.weighings/ }).locator('[data-kind=insert]')).toHaveText('600');
  await expect(page.getByText('600 rows', { exact: true })).toBeVisible();
  // begun anew, its rows are made from the first one on again
  await page.getByRole('button', { name: 'Pause' }).click();
  await page.getByRole('tab', { name: 'Positions' }).click();
  await page.getByRole('button', { name: 'Begin anew' }).click();
  const asked = page.getByRole('dialog');
  await expect(asked).toContainText('made from the first one on again');
  await expect(asked.getByRole('radio')).toHaveCount(0);
  await asked.getByLabel(/To go on, type the name/).fill('weighbridge-changes');
  await asked.getByRole('button', { name: 'Begin anew' }).click();
  await expect(asked).toHaveCount(0);
  // it runs again by itself
  await page.getByRole('tab', { name: 'Now' }).click();
  await expect(page.getByRole('row', { name: /recipes\.weighings/ }).locator('[data-kind=insert]')).toHaveText('1,200');
  await page.goto('/topics/weighbridge.weighings');
  await expect(page.getByText('weight_kg').first()).toBeVisible();
});
