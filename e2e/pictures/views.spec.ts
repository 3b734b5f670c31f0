/** Takes the pictures of docs/screenshots/ from the demo's data. */
import { expect } from '@playwright/test';

import { withDemo } from '../support/demo';
import { confirmed, items } from '../support/interface';

const test = withDemo();
const folder = '../docs/screenshots';

test('the main views', async ({ page, demo }) => {
  const equal = () =>
    demo.sql('settlement', 'SELECT count(*) FROM bins') === demo.sql('packhouse', 'SELECT count(*) FROM bins');
  await expect
    .poll(() => demo.sql('settlement', "SELECT to_regclass('bins') IS NOT NULL AND to_regclass('blocks') IS NOT NULL"))
    .toBe('t');
  await expect.poll(equal, { timeout: 60_000 }).toBe(true);
  await page.request.put('/api/v1/demo/workload', { data: { running: true, rate: 40 } });
  const take = async (name: string, path: string, ready: () => Promise<void>) => {
    await page.goto(path);
    await ready();
    await page.evaluate(() => document.fonts.ready);
    await page.screenshot({ path: `${folder}/${name}.png` });
  };
  const settled = async () => page.waitForTimeout(6_500);

  await take('flow', '/flow', async () => {
    await expect(page.getByRole('button', { name: /Connector packhouse-changes/ })).toBeVisible();
    await settled();
  });
  await take('connectors', '/connectors', async () => {
    await expect(page.getByRole('link', { name: 'settlement-tables' })).toBeVisible();
    await page.waitForTimeout(800);
  });
  const connectors = await items<{ id: string; name: string }>(page, 'connectors');
  const source = connectors.find((c) => c.name === 'packhouse-changes');
  await take('connector', `/connectors/${source?.id}`, async () => {
    await expect(page.getByRole('row', { name: /public\.bins/ })).toBeVisible();
    await page.waitForTimeout(800);
  });
  await take('topics', '/topics', async () => {
    await expect(page.getByRole('link', { name: 'packhouse.bins' })).toBeVisible();
  });
  await take('topic', '/topics/packhouse.bins?tail=1', async () => {
    await expect(page.locator('td.changed').first()).toBeVisible();
    await page.waitForTimeout(800);
  });
  await page.request.post('/api/v1/readers', { data: { name: 'stocktaking', topics: ['packhouse.bins'] } });
  const half = { target: { to: 'by', records: 21_000 } };
  await confirmed(page, 'post', 'readers/stocktaking/reposition', half);
  await take('topic-readers', '/topics/packhouse.bins/readers', async () => {
    await page
      .getByRole('row', { name: /^stocktaking/ })
      .getByRole('button', { name: 'stocktaking' })
      .click();
    await expect(page.getByRole('table', { name: 'Positions of stocktaking' })).toBeVisible();
  });
  const where = "value.change = 'update' AND value.new.weight_kg > 300";
  await take('topic-search', `/topics/packhouse.bins?where=${encodeURIComponent(where)}`, async () => {
    await expect(page.getByText(/found in/)).toBeVisible();
    await expect(page.locator('td.changed').first()).toBeVisible();
    await page.evaluate(() => window.scrollTo(0, 200));
    await page.waitForTimeout(1_500);
  });
  await take('topic-settings', '/topics/packhouse.bins/settings', async () => {
    await page.getByRole('textbox', { name: 'Forget after' }).fill('7');
    await page.getByRole('button', { name: 'Show what this removes' }).click();
    await expect(page.getByText('No record would be forgotten now.')).toBeVisible();
    await page.evaluate(() => window.scrollTo(0, 380));
  });
  await take('function', '/functions/degrees_above', async () => {
    await page.getByRole('textbox', { name: 'Expression' }).click();
    await page.keyboard.press('Control+A');
    await page.keyboard.type('greatest(celsius - target - 0.5, 0)');
    await expect(page.getByRole('region', { name: 'What it does to those that use it' })).toContainText('change');
    await page.waitForTimeout(500);
  });
  await take('schema', '/schemas/coldstore.event', async () => {
    await expect(page.getByRole('textbox', { name: 'Text of version 2' })).toContainText('limit');
    await page.waitForTimeout(800);
  });
  demo.sql('settlement', "ALTER TABLE bins ADD CHECK (status <> 'recalled') NOT VALID");
  demo.sql('settlement', 'ALTER TABLE growers ALTER district SET NOT NULL');
  demo.sql('packhouse', "UPDATE bins SET status = 'recalled' WHERE id IN (7, 41, 42, 900)");
  demo.sql('packhouse', 'UPDATE growers SET district = NULL WHERE id = 12');
  demo.runner('packhouse-1', 'site=packhouse');
  await take('quarantine', '/quarantine', async () => {
    await expect(page.getByRole('link', { name: /bins_status_check/ })).toBeVisible();
    await expect(page.getByRole('link', { name: /column district/ })).toBeVisible();
  });
  await take('runners', '/runners', async () => {
    await expect(page.getByRole('region', { name: 'packhouse-1' })).toContainText('2 lanes');
    const closed = page.getByRole('button', { name: 'What it carries' });
    while ((await closed.count()) > 0) await closed.first().click();
  });
  const who = (name: string) => ({ 'gonvel-who': name });
  const reload = { data: { tables: ['public.blocks'] }, headers: who('Ines') };
  await page.request.post(`/api/v1/connectors/${source?.id}/reload`, reload);
  await page.request.post('/api/v1/topics', { data: { name: 'coldstore.archive', partitions: 1 } });
  const reading = (partition: number) => `{"timestamp":0,"partition":${partition},"value":"3.5"}\n`;
  const file = (data: string) => ({ data: Buffer.from(data), headers: who('Marek') });
  const place = '/api/v1/topics/coldstore.archive/import?form=jsonl';
  await page.request.post(place, file(reading(0).repeat(9_000) + reading(7)));
  await page.waitForTimeout(3_000);
  await take('operations', '/operations', async () => {
    await expect(page.getByRole('region', { name: 'Ended' })).toContainText('public.blocks');
    await page.request.post(place, file(reading(0).repeat(2_000_000)));
    await expect(page.getByRole('progressbar')).toBeVisible();
  });
  await take('connections', '/connections', async () => {
    await page.getByRole('button', { name: 'Test' }).first().click();
    await expect(page.getByText(/Answered in/)).toBeVisible();
  });
  await take('builder', '/connectors/new?kind=source', async () => {
    await page.getByRole('combobox', { name: 'Connection' }).click();
    await page.getByRole('option', { name: 'packhouse' }).click();
    for (const table of ['rooms', 'consignments']) {
      await page.getByRole('checkbox', { name: new RegExp(`^${table} `) }).check();
    }
    await page.getByLabel('Name of the connector').fill('packhouse-dispatch');
    await page.getByRole('button', { name: 'Check only' }).click();
    await expect(page.getByText('Everything it needs is there.')).toBeVisible();
    await page.evaluate(() => window.scrollTo(0, 0));
  });
  const readings = connectors.find((c) => c.name === 'coldstore-readings');
  await take('event-rows', `/connectors/${readings?.id}/edit?rows=coldstore.readings`, async () => {
    await expect(page.getByText(/All of the newest .* records become rows/)).toBeVisible();
  });
  await take('edit', `/connectors/${source?.id}/edit`, async () => {
    await page.getByRole('checkbox', { name: /^rooms / }).check();
    await expect(page.getByRole('region', { name: 'What this changes' })).toContainText('These come in');
  });
  const sink = connectors.find((c) => c.name === 'settlement-tables');
  await take('shape', `/connectors/${sink?.id}/edit?shape=packhouse.growers`, async () => {
    const steps = page.getByRole('region', { name: 'Steps' });
    const add = async (step: string) => {
      await steps.getByRole('button', { name: 'Add a step' }).click();
      await page.getByRole('menuitem', { name: step }).click();
    };
    await add('Hide values');
    await steps.getByRole('combobox', { name: 'Columns' }).click();
    await page.getByRole('option', { name: 'phone' }).click();
    await page.keyboard.press('Escape');
    await steps.getByText('partly', { exact: true }).click();
    await add('Add a computed column');
    await steps.getByRole('textbox', { name: 'Column', exact: true }).fill('years');
    const value = 'extract(year from age(origin.committed_at, joined_on::timestamptz))::integer';
    await steps.getByRole('textbox', { name: 'What the column is' }).fill(value);
    await add('Filter rows');
    await steps.getByRole('textbox', { name: 'The condition' }).fill("years >= 10 OR district = 'Eastmoor'");
    await expect(page.getByRole('region', { name: 'Real rows' })).toContainText('goes no further');
    await page.keyboard.press('Escape');
  });
  await take('manifests', '/manifests', async () => {
    await page.getByRole('button', { name: 'Begin with what is here' }).click();
    const text = page.getByRole('textbox', { name: 'Manifests' });
    await expect(text).toHaveValue(/topic: packhouse.bins\n/);
    const more = 'topic: coldstore.vents\npartitions: 2\n---\nreader: vent-watch\ntopics: [coldstore.vents]\n';
    const bins = (await text.inputValue()).replace(/(topic: packhouse.bins\npartitions: )\d+/, '$16');
    await text.fill(`${bins}---\n${more}`);
    await expect(page.getByRole('region', { name: 'What that changes here' })).toContainText('reader vent-watch');
    await page.evaluate(() => window.scrollTo(0, 0));
  });
});
