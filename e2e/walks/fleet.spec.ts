import { readFileSync } from 'node:fs';

import { expect } from '@playwright/test';

import { withDemo } from '../support/demo';
import { items } from '../support/interface';

const test = withDemo();

test.describe.configure({ mode: 'serial' });

test('a bad record waits in quarantine, is mended and delivered, and what is newer is not overwritten', async ({
  page,
  demo,
}) => {
  await page.goto('/connectors');
  await expect(page.getByText('following')).toHaveCount(4);
  await expect.poll(() => demo.asked('settlement', 'SELECT count(*) FROM bins')).toBe('120000');
  demo.sql('settlement', "ALTER TABLE bins ADD CHECK (status <> 'recalled')");
  demo.sql('packhouse', "UPDATE bins SET status = 'recalled' WHERE id IN (41, 42, 43)");
  demo.sql('packhouse', "UPDATE bins SET remark = 'counted' WHERE id = 44");
  // the others went on
  await expect.poll(() => demo.asked('settlement', 'SELECT remark FROM bins WHERE id = 44')).toBe('counted');

  await page.getByRole('link', { name: '3 in quarantine' }).click();
  await expect(page.getByRole('heading', { name: 'Quarantine' })).toBeVisible();
  await page.getByRole('link', { name: /bins_status_check/ }).focus();
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('violates check constraint');
  const of = (id: number) => page.getByRole('article').filter({ hasText: `{"id":${id}}` });
  await expect(page.getByRole('article')).toHaveCount(3);

  // one is mended: what is wrong in it is said while typing
  await of(41).getByRole('button', { name: 'Look and mend' }).click();
  const value = of(41).getByLabel('Its value');
  const text = await value.inputValue();
  await value.fill(text.slice(0, -3));
  await expect(of(41).getByRole('button', { name: 'Keep the mended value' })).toBeDisabled();
  await value.fill(text.replace(/"status": "recalled"/, '"status": 7'));
  await of(41).getByRole('button', { name: 'Keep the mended value' }).click();
  await expect(of(41)).toContainText('status');
  await expect(of(41)).toContainText('$.new.status: found 7, where');
  await value.fill(
    text.replace(/"status": "recalled"/, '"status": "graded"').replace(/"remark": [^\n]*/, '"remark": "mended"'),
  );
  await expect(of(41)).toContainText('changes new.status, new.remark');
  await of(41).getByRole('button', { name: 'Keep the mended value' }).click();
  await expect(of(41)).toContainText('Mended:');
  await of(41).getByRole('button', { name: 'Try it again' }).click();
  await expect
    .poll(() => demo.asked('settlement', 'SELECT status, remark FROM bins WHERE id = 41'))
    .toBe('graded|mended');

  // a newer change of a bin makes the older one void
  demo.sql('packhouse', "UPDATE bins SET status = 'shipped' WHERE id = 42");
  await expect(page.getByRole('article')).toHaveCount(1);
  // without the check the last goes in as it is
  demo.sql('settlement', 'ALTER TABLE bins DROP CONSTRAINT bins_status_check');
  await of(43).getByRole('button', { name: 'Try it again' }).click();
  await expect(page.getByText('Nothing of this cause waits.')).toBeVisible();
  expect(demo.sql('settlement', "SELECT string_agg(status, ',' ORDER BY id) FROM bins WHERE id IN (42, 43)")).toBe(
    'shipped,recalled',
  );
  await page.getByText('Superseded', { exact: true }).click();
  await expect(of(42)).toBeVisible();

  // and one that is given up says why, and by whom
  await page.getByRole('button', { name: 'Who are you?' }).click();
  await page.getByLabel('Your name').fill('Mira');
  await page.keyboard.press('Escape');
  demo.sql('settlement', 'ALTER TABLE growers ADD CHECK (id <> 7) NOT VALID');
  demo.sql('packhouse', "UPDATE growers SET district = 'north' WHERE id = 7");
  await page.goto('/quarantine');
  await page.getByRole('button', { name: 'Discard' }).click();
  await page.getByLabel('Why').fill('left the cooperative');
  await page.getByRole('dialog').getByRole('button', { name: 'Discard' }).click();
  await expect(page.getByText('Nothing waits')).toBeVisible();
  const gone = await items(page, 'quarantine/records?state=discarded');
  expect(gone).toMatchObject([{ settled_by: 'Mira', reason: 'left the cooperative' }]);
});

test('runners share the lanes, are emptied, and a killed one is followed', async ({ page, demo }) => {
  const all = await items<{ id: string; name: string }>(page, 'connectors');
  const sink = all.find((c) => c.name === 'settlement-tables');
  await page.goto(`/connectors/${sink?.id}/edit`);
  await page.getByText('Where it runs, and what happens when something fails').click();
  await page.getByLabel('Lanes').fill('3');
  await page.getByRole('button', { name: 'Save', exact: false }).first().click();
  await expect(page.getByRole('region', { name: 'Lanes' }).getByText('following')).toHaveCount(3);

  await page.goto('/runners');
  const runner = demo.runner('packhouse-1', 'site=packhouse');
  const near = page.getByRole('region', { name: 'packhouse-1' });
  await expect(near).toContainText('3 lanes');
  await expect(near).toContainText('site=packhouse');
  await page.getByRole('region', { name: 'runner-1' }).getByRole('button', { name: 'Empty it' }).click();
  await expect(near).toContainText('6 lanes');
  await expect(page.getByRole('region', { name: 'runner-1' })).toContainText('empty: it can be stopped');
  await page.getByRole('region', { name: 'runner-1' }).getByRole('button', { name: 'Let it have lanes again' }).click();
  await expect(near).toContainText('3 lanes');
  runner.kill('SIGKILL');
  await expect(near).toContainText('gone');
  await expect(page.getByRole('region', { name: 'runner-1' })).toContainText('6 lanes');
  demo.sql('packhouse', "UPDATE bins SET remark = 'followed' WHERE id = 1");
  await expect.poll(() => demo.asked('settlement', 'SELECT remark FROM bins WHERE id = 1')).toBe('followed');
  await near.getByRole('button', { name: 'Forget it' }).click();
  await expect(near).toBeHidden();
});

test('many are stopped and started at once, after a look; who did it and what they said is kept', async ({ page }) => {
  await page.goto('/connectors');
  await page.getByLabel('Choose all that are shown').check();
  await page.getByRole('button', { name: 'Stop', exact: true }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog).toContainText('packhouse-changes (following) its system keeps its log');
  await expect(dialog).toContainText('settlement-tables (following) records wait in their topics');
  await dialog.getByRole('button', { name: 'Stop 4' }).click();
  await expect(page.getByText('stopped')).toHaveCount(4);
  await page.getByLabel('Choose settlement-tables').check();
  const file = page.waitForEvent('download');
  await page.getByRole('link', { name: 'Export as text' }).click();
  const text = readFileSync(await (await file).path(), 'utf8');
  expect(text.match(/^connector: .*$/gm)).toEqual(['connector: settlement-tables']);
  await page.getByRole('button', { name: 'Start', exact: true }).click();
  await page.getByRole('dialog').getByRole('button', { name: 'Start 1' }).click();
  await page.getByRole('link', { name: 'settlement-tables' }).click();
  await expect(page.getByRole('region', { name: 'Lanes' }).getByText('following')).toHaveCount(3);
  await page.getByRole('button', { name: 'Start anew' }).first().click();
  await page.getByRole('tab', { name: 'History and versions' }).click();
  const history = page.getByRole('region', { name: 'History' });
  for (const deed of ['started anew', 'started', 'stopped', 'changed', 'made and started'])
    await expect(history).toContainText(deed);

  // the log, by text and by how grave
  await page.getByRole('tab', { name: 'Log' }).click();
  const lines = page.getByRole('list', { name: /^Lines/ }).getByRole('listitem');
  await expect(lines.first()).toBeVisible();
  await page.getByText('Warnings', { exact: true }).click();
  await expect(lines.filter({ hasText: 'info' })).toHaveCount(0);
  await page.getByLabel('With this text').fill('quarantine');
  await expect(lines.first()).toContainText('went into quarantine');
  await expect(page).toHaveURL(/level=warning.*text=quarantine/);
  await page.getByLabel('With this text').fill('no line says this');
  await expect(page.getByText('No line fits.')).toBeVisible();
});
