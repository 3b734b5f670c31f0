import { readFileSync } from 'node:fs';

import { expect } from '@playwright/test';

import { accessible } from '../support/accessible';
import { withDemo } from '../support/demo';

const test = withDemo();
test.describe.configure({ mode: 'serial' });

test('what manifests would change is shown as they are typed, told where it is wrong, and done', async ({ page }) => {
  await page.goto('/runners');
  await page.getByRole('link', { name: 'Manifests' }).click();
  await expect(page.getByRole('heading', { name: 'Manifests' })).toBeVisible();
  const text = page.getByRole('textbox', { name: 'Manifests' });
  const changes = page.getByRole('region', { name: 'What that changes here' });
  const apply = page.getByRole('button', { name: 'Apply', exact: true });
  await expect(apply).toBeDisabled();
  await text.fill('topic: coldstore.vents\npartition: 2\n---\nreader: vent-watch\ntopics: [coldstore.vent]\n');
  await expect(changes.getByRole('alert')).toContainText('typed text, line 2: unknown field `partition`');
  await expect(apply).toBeDisabled();
  await text.fill('topic: coldstore.vents\npartitions: 2\n---\nreader: vent-watch\ntopics: [coldstore.vent]\n');
  await expect(changes.getByRole('alert')).toContainText('line 5: there is no topic coldstore.vent, perhaps');
  await accessible(page);
  await text.fill('topic: coldstore.vents\npartitions: 2\n---\nreader: vent-watch\ntopics: [coldstore.vents]\n');
  await expect(changes.getByRole('listitem')).toHaveText(['make topic coldstore.vents', 'make reader vent-watch']);
  await apply.click();
  await expect(changes).toContainText('2 steps are done');
  await expect(changes.getByRole('listitem')).toHaveCount(0);
  // what was typed is there when one comes back
  await page.getByRole('link', { name: 'Runners' }).click();
  await expect(page.getByRole('heading', { name: 'Runners' })).toBeVisible();
  await page.getByRole('region', { name: 'Run' }).getByRole('link', { name: 'Manifests' }).click();
  await expect(text).toHaveValue(/coldstore.vents/);
  await page.goto('/topics/coldstore.vents');
  await expect(page.getByRole('heading', { name: 'coldstore.vents' })).toBeVisible();
});

test('what is here is exported, taken as the beginning, changed from a dropped file, and what goes is asked for by its name', async ({
  page,
}) => {
  await page.goto('/manifests');
  await page.getByRole('button', { name: 'Export' }).click();
  const download = page.waitForEvent('download');
  await page.getByRole('menuitem', { name: 'Only topics' }).click();
  const topics = readFileSync((await (await download).path()) ?? '', 'utf8');
  expect(topics).toContain('topic: coldstore.vents\npartitions: 2\n');
  const text = page.getByRole('textbox', { name: 'Manifests' });
  const changes = page.getByRole('region', { name: 'What that changes here' });
  await page.getByRole('button', { name: 'Begin with what is here' }).click();
  await expect(text).toHaveValue(/connection: packhouse/);
  await expect(changes.getByRole('listitem')).toHaveCount(0);
  await expect(changes).toContainText('As they are to be');
  // what stands in a file as well is said
  const dropped = await page.evaluateHandle(() => {
    const transfer = new DataTransfer();
    transfer.items.add(new File(['topic: coldstore.vents\npartitions: 4\n'], 'vents.yaml'));
    return transfer;
  });
  await page.getByRole('region', { name: 'What is to be' }).dispatchEvent('drop', { dataTransfer: dropped });
  await expect(changes.getByRole('alert')).toContainText(
    'vents.yaml, line 1: the topic coldstore.vents stands in typed text',
  );
  const whole = await text.inputValue();
  const without = whole.split('---\n').filter((one) => !/^(topic: coldstore.vents|reader: vent-watch)\n/.test(one));
  await text.fill(without.join('---\n'));
  await expect(changes.getByRole('listitem')).toContainText(['change topic coldstore.vents']);
  await expect(changes).toContainText('partitions: 2 → 4');
  await expect(changes).toContainText('Most keys go to another partition from then on');
  await page.getByLabel('Delete what is not named').check();
  await expect(changes.getByRole('listitem')).toContainText([
    'delete reader vent-watch',
    'change topic coldstore.vents',
  ]);
  await page.getByRole('button', { name: 'Apply', exact: true }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog).toContainText('Its positions are lost.');
  await dialog.getByLabel(/To go on, type the name/).fill('vent-watch');
  await dialog.getByRole('button', { name: 'Apply and delete' }).click();
  await expect(changes).toContainText('2 steps are done');
  await page.goto('/readers');
  await expect(page.getByText('night-shift').or(page.getByRole('main'))).not.toContainText('vent-watch');
});

test('a secret is asked for, and what a step is refused for stands at it', async ({ page }) => {
  await page.goto('/manifests');
  const changes = page.getByRole('region', { name: 'What that changes here' });
  const apply = page.getByRole('button', { name: 'Apply', exact: true });
  const far = 'connection: far\nkind: postgresql\nhost: 127.0.0.1\nport: 1\ndatabase: d\nuser: u\n';
  const secret = 'password: {env: FAR_PASSWORD}\n';
  await page.getByRole('textbox', { name: 'Manifests' }).fill(`${far}${secret}---\ntopic: far.bins\npartitions: 1\n`);
  await expect(changes).toContainText('far: give its password first');
  await expect(apply).toBeDisabled();
  await expect(page.getByText("By command it comes from the environment's FAR_PASSWORD.")).toBeVisible();
  await page.getByRole('textbox', { name: 'Password of far' }).fill('a secret');
  await expect(changes).not.toContainText('give its password first');
  await apply.click();
  const refused = changes.getByRole('listitem').filter({ hasText: 'connection far' });
  await expect(refused.getByRole('alert')).toContainText('127.0.0.1:1');
  await expect(refused).toContainText('refused');
  // what comes after it was not begun
  await expect(changes.getByRole('listitem').filter({ hasText: 'topic far.bins' })).not.toContainText('done');
});
