import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';

import { expect, type Page } from '@playwright/test';

import { accessible } from '../support/accessible';
import { type Demo, withDemo } from '../support/demo';
import { confirmed, ended } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

/** What a topic holds is as old as its records, as if each had been appended when it happened. */
function appendedAsItHappened(demo: Demo, topic: string) {
  const of = `(SELECT id FROM topics WHERE name = '${topic}')`;
  demo.sql('gonvel', `UPDATE blocks SET appended_us = latest_us WHERE topic_id = ${of}`);
}

test('a topic is made by keyboard, and a name out of the rules is said beside its field', async ({ page }) => {
  await page.goto('/topics');
  await expect(page.getByText('No topic yet')).toBeVisible();
  await page.keyboard.press('Control+k');
  await page.getByLabel('Find', { exact: true }).fill('make a topic');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('dialog', { name: 'Make a topic' })).toBeVisible();
  await expect(page.getByLabel('Name')).toBeFocused();
  await page.keyboard.type('bins weighed');
  await page.keyboard.press('Enter');
  await expect(page.getByText(/' ' at character 5/)).toBeVisible();
  await page.getByLabel('Name').fill('bins.weighed');
  await page.getByRole('textbox', { name: 'Partitions' }).fill('2');
  await page.getByRole('textbox', { name: 'Forget after' }).fill('7');
  await page.getByRole('button', { name: 'Make the topic' }).click();
  await expect(page.getByRole('heading', { name: 'bins.weighed', level: 1 })).toBeVisible();
  await expect(page.getByText('Keeps every record, for 7 d.')).toBeVisible();
  await accessible(page);
});

test('what others change is shown as it happens, without asking again, unless the page is held still', async ({
  page,
}) => {
  const asked: string[] = [];
  page.on('request', (request) => {
    if (request.url().includes('/api/v1/topics?')) asked.push(request.url());
  });
  await page.goto('/topics');
  const row = (name: string) => page.getByRole('row', { name });
  await expect(row('bins.weighed')).toBeVisible();
  // by now it has read what was there when it began to listen
  await page.request.post('/api/v1/topics', { data: { name: 'bins.first', partitions: 1 } });
  await expect(row('bins.first')).toBeVisible();
  const before = asked.length;
  await page.request.post('/api/v1/topics', { data: { name: 'bins.second', partitions: 1 } });
  await expect(row('bins.second')).toBeVisible();
  await confirmed(page, 'delete', 'topics/bins.first');
  await expect(row('bins.first')).toHaveCount(0);
  await page.request.post('/api/v1/topics/bins.second/records', { data: [{ value: 1 }, { value: 2 }, { value: 3 }] });
  await expect(row('bins.second')).toContainText('3');
  expect(asked.length).toBe(before);

  await page.getByRole('button', { name: 'Live' }).click();
  await confirmed(page, 'delete', 'topics/bins.second');
  await page.waitForTimeout(1_500);
  await expect(row('bins.second')).toBeVisible();
  await page.getByRole('button', { name: 'Held still' }).click();
  await expect(row('bins.second')).toHaveCount(0);
  expect(asked.length).toBe(before);
});

test('a list that was read before a change and answers after it does not bring back what was', async ({ page }) => {
  let release: (() => void) | undefined;
  const held = new Promise<void>((done) => (release = done));
  await page.goto('/topics');
  const row = (name: string) => page.getByRole('row', { name });
  await expect(row('bins.weighed')).toBeVisible();
  await page.request.post('/api/v1/topics', { data: { name: 'bins.early', partitions: 1 } });
  await expect(row('bins.early')).toBeVisible();
  // whoever comes back to the page has it read anew, which takes long this time
  let read = 0;
  await page.route('**/api/v1/topics?*', async (route) => {
    const response = await route.fetch();
    read += 1;
    await held;
    await route.fulfill({ response });
  });
  await page.getByRole('navigation').getByRole('link', { name: 'Schemas' }).click();
  await expect(page.getByRole('heading', { name: 'Schemas', exact: true })).toBeVisible();
  await page.waitForTimeout(2_500);
  await page.getByRole('navigation').getByRole('link', { name: 'Topics' }).click();
  await expect.poll(() => read).toBe(1);
  await page.request.post('/api/v1/topics', { data: { name: 'bins.late', partitions: 1 } });
  await confirmed(page, 'delete', 'topics/bins.early');
  await expect(row('bins.late')).toBeVisible();
  await expect(row('bins.early')).toHaveCount(0);
  const answered = page.waitForResponse((response) => response.url().includes('/api/v1/topics?'));
  release?.();
  await answered;
  await page.waitForTimeout(500);
  await expect(row('bins.late')).toBeVisible({ timeout: 1_000 });
  await expect(row('bins.early')).toHaveCount(0, { timeout: 1_000 });
  await confirmed(page, 'delete', 'topics/bins.late');
});

test('the form to append is there before a slow server has told the schemas, and what is typed stays in its field', async ({
  page,
}) => {
  // what a page does "at once" comes late on a busy machine, also the focus that a dialog gives to a field of its own choice
  await page.addInitScript(() => {
    const later = window.setTimeout.bind(window);
    window.setTimeout = ((task: TimerHandler, ms = 0, ...rest: unknown[]) =>
      later(task, ms < 5 ? 800 : ms, ...rest)) as typeof window.setTimeout;
  });
  await page.route('**/topics/bins.weighed/schemas?*', async (route) => {
    await new Promise((resolve) => setTimeout(resolve, 5_000));
    await route.continue();
  });
  await page.goto('/topics/bins.weighed');
  await page.getByRole('button', { name: 'Append a record' }).click();
  const dialog = page.getByRole('dialog');
  const key = dialog.getByLabel('Key', { exact: true });
  await key.pressSequentially('bin-8', { delay: 300 });
  await expect(dialog.getByRole('button', { name: 'Append', exact: true })).toBeDisabled();
  await expect(dialog.getByRole('button', { name: 'Append', exact: true })).toBeEnabled();
  await expect(key).toHaveValue('bin-8');
  await expect(dialog.getByLabel('Value as JSON')).toHaveValue('{}');
  await page.keyboard.press('Escape');
  await expect(page.getByRole('button', { name: 'Append a record' })).toBeFocused();
});

test('a record is appended, found by key and condition, shown in all forms, and made again', async ({ page }) => {
  await page.goto('/topics/bins.weighed');
  await page.getByRole('button', { name: 'Append a record' }).click();
  await page.getByLabel('Key', { exact: true }).last().fill('bin-7');
  await page.getByLabel('Value as JSON').fill('{"weight": 18.5,');
  await page.getByRole('button', { name: 'Append', exact: true }).click();
  await expect(page.getByRole('alert')).toContainText('not JSON');
  await page.getByLabel('Value as JSON').fill('{"weight": 18.50, "grade": "extra"}');
  await page.getByLabel('Headers').fill('room: 3');
  await page.getByRole('button', { name: 'Append', exact: true }).click();
  await expect(page.getByRole('status')).toContainText(/Appended at offset 0 of partition [01]/);
  await page.getByRole('button', { name: 'Done' }).click();

  const many = Array.from({ length: 300 }, (_, n) => ({
    key: `bin-${100 + n}`,
    value: { weight: n, grade: 'class I' },
  }));
  expect((await page.request.post('/api/v1/topics/bins.weighed/records', { data: many })).status()).toBe(200);
  await page.getByLabel('Key', { exact: true }).fill('bin-7');
  await page.getByRole('button', { name: 'Go', exact: true }).click();
  const card = page.getByRole('article').first();
  await expect(card).toContainText('extra');
  await expect(page.getByRole('article')).toHaveCount(1);
  await expect(page).toHaveURL(/key=bin-7/);
  await page.getByText('Hex', { exact: true }).click();
  await expect(card.locator('pre').first()).toContainText('62 69 6e 2d 37');
  await page.getByText('Raw', { exact: true }).first().click();
  await expect(card).toContainText('{"weight": 18.50, "grade": "extra"}');
  await page.getByRole('button', { name: 'Append one like it' }).click();
  await expect(page.getByLabel('Value as JSON')).toHaveValue(/"grade": "extra"/);
  await expect(page.getByLabel('Headers')).toHaveValue('room: 3');
  await page.keyboard.press('Escape');

  await page.getByLabel('Condition').fill("value.weight >= 290 AND key LIKE 'bin-%'");
  await page.getByRole('button', { name: 'Search' }).click();
  await expect(page.getByText('10 found in 301 of 301 records')).toBeVisible();
  await page.getByLabel('Condition').fill('weight > 3');
  await page.getByRole('button', { name: 'Search' }).click();
  await expect(page.getByRole('alert')).toContainText('a record has no "weight"');
  await page.getByRole('button', { name: 'All records' }).click();
  await page.getByText('Table', { exact: true }).click();
  await expect(page.getByRole('article').first()).toContainText('class I');

  // only cards near the window are drawn, and the last of all can be reached
  await page.getByRole('combobox', { name: 'Partition' }).click();
  await page.getByRole('option', { name: 'Partition 0' }).click();
  const older = page.getByRole('button', { name: 'Older records' });
  const oldest = page.getByText('The oldest kept record is the last one here.');
  let pages = 1;
  for (; pages < 8; pages++) {
    await expect(older.or(oldest)).toBeVisible();
    await page.evaluate(() => window.scrollTo(0, document.body.scrollHeight));
    if (await oldest.isVisible()) break;
    const answered = page.waitForResponse((response) => /\/records\?.*cursor=/.test(response.url()));
    await older.click();
    await answered;
  }
  expect(pages).toBeGreaterThan(1);
  await expect(oldest).toBeVisible();
  expect(await page.getByRole('article').count()).toBeLessThan(40);
});

test('what is appended between the reading of the page and the beginning of the stream is shown', async ({ page }) => {
  const records = '/api/v1/topics/bins.weighed/records';
  const kept = () => {
    let done = () => {};
    const when = new Promise<void>((resolve) => (done = resolve));
    return { done, when };
  };
  const [read, appended, answered] = [kept(), kept(), kept()];
  await page.goto('/topics/bins.weighed');
  await expect(page.getByRole('article').first()).toBeVisible();
  const opened = page.waitForResponse('**/bins.weighed/tail?**');
  // a slow server: the page was read before, and is there when the stream has begun after
  await page.route('**/bins.weighed/tail?**', async (route) => {
    await appended.when;
    await route.continue();
  });
  await page.route(
    `**${records}?**`,
    async (route) => {
      const response = await route.fetch();
      read.done();
      await opened;
      await new Promise((later) => setTimeout(later, 200));
      // whoever asked may have given it up
      await route.fulfill({ response }).catch(() => {});
      answered.done();
    },
    { times: 1 },
  );
  await page.getByText('As they come').click();
  await read.when;
  await page.request.post(records, { data: { key: 'bin-between', value: { weight: 12 } } });
  appended.done();
  await answered.when;
  await expect(page.getByRole('article').first()).toContainText('bin-between', { timeout: 20_000 });
});

test('a search over many records says how far it is and can be stopped', async ({ page, demo }) => {
  const text = 'x'.repeat(200);
  for (let batch = 0; batch < 12; batch++) {
    const some = Array.from({ length: 5_000 }, (_, n) => ({ key: `s-${n}`, value: { n, text } }));
    await page.request.post('/api/v1/topics/bins.weighed/records', { data: some });
  }
  await page.goto(`/topics/bins.weighed?where=${encodeURIComponent("value.text LIKE '%x%y%x%'")}`);
  await expect(page.getByText(/0 found in [1-9].* so far/)).toBeVisible();
  await page.getByRole('button', { name: 'Stop' }).click();
  await expect(page.getByText(/0 found in .* stopped/)).toBeVisible();
  await expect(page.getByRole('button', { name: 'Search' })).toBeVisible();
  expect(demo.sql('gonvel', 'SELECT count(*) FROM topics')).toBe('1');
});

test('an export is a file that can be imported', async ({ page, demo }) => {
  await page.goto('/topics/bins.weighed?partition=0');
  await page.getByRole('button', { name: 'Export' }).click();
  const [file] = await Promise.all([
    page.waitForEvent('download'),
    page.getByRole('menuitem', { name: 'JSON Lines' }).click(),
  ]);
  expect(file.suggestedFilename()).toBe('bins.weighed.jsonl');
  const data = readFileSync(await file.path());
  await page.request.post('/api/v1/topics', { data: { name: 'bins.copied', partitions: 2 } });
  const done = await page.request.post('/api/v1/topics/bins.copied/import?form=jsonl', { data });
  const { records } = (await ended(page, done)).result;
  const topic = (await (await page.request.get('/api/v1/topics/bins.weighed')).json()) as {
    partition_list: { records: number }[];
  };
  expect(records).toBe(topic.partition_list[0]?.records);

  // the forms that are compressed on their way: by the browser, and by a client that nobody here wrote
  for (const [word, form] of [
    ['CSV', 'csv'],
    ['Avro', 'avro'],
    ['Parquet', 'parquet'],
  ] as const) {
    await page.getByRole('button', { name: 'Export' }).click();
    const [file] = await Promise.all([
      page.waitForEvent('download'),
      page.getByRole('menuitem', { name: word, exact: true }).click(),
    ]);
    const address = `${demo.url}/api/v1/topics/bins.weighed/export?form=${form}&partition=0`;
    const curled = execFileSync('curl', ['-sfS', '--compressed', address], { maxBuffer: 1 << 28 });
    for (const [by, data] of [
      ['browser', readFileSync(await file.path())],
      ['curl', curled],
    ] as const) {
      const name = `bins.${form}.${by}`;
      await page.request.post('/api/v1/topics', { data: { name, partitions: 2 } });
      const done = await page.request.post(`/api/v1/topics/${name}/import?form=${form}`, { data });
      expect((await ended(page, done)).result, name).toMatchObject({ records });
    }
  }
});

test('a reader stands as a flag on the ruler and is moved after a look', async ({ page }) => {
  await page.goto('/topics/bins.weighed/readers');
  await page.getByRole('button', { name: 'Make a reader' }).click();
  await page.getByLabel('Name').fill('stocktaking');
  await page.getByRole('button', { name: 'Make the reader' }).click();
  const row = page.getByRole('row', { name: /^stocktaking/ });
  await expect(row).toContainText('60,302');
  await page.getByRole('button', { name: 'stocktaking' }).first().click();
  await page.getByRole('combobox', { name: 'To', exact: true }).click();
  await page.getByRole('option', { name: 'so many records further on, or back' }).click();
  await page.getByLabel('Records', { exact: true }).last().fill('50');
  await page.getByRole('button', { name: 'Show what this does' }).click();
  await expect(page.getByText('50 records would never be read.')).toBeVisible();
  await accessible(page);
  await page.getByRole('button', { name: 'Move the reader' }).click();
  await expect(row).toContainText('60,252');
  // while a member reads, it cannot be moved
  const joined = await page.request.post('/api/v1/readers/stocktaking/members', { data: { label: 'line 2' } });
  const { member } = (await joined.json()) as { member: string };
  await expect(row).toContainText('line 2');
  await row.getByRole('button', { name: 'Move' }).click();
  await expect(page.getByText(/Members are active \(line 2\)/)).toBeVisible();
  await expect(page.getByRole('button', { name: 'Show what this does' })).toBeDisabled();
  await page.keyboard.press('Escape');
  await page.request.delete(`/api/v1/readers/stocktaking/members/${member}`);
  await page.request.post('/api/v1/topics', { data: { name: 'bins.scanned', partitions: 1 } });
  await page.goto('/readers');
  await expect(row).toContainText('bins.weighed');
  // another topic, from its newest records on; what it gives up is said
  await row.getByRole('button', { name: 'Topics' }).click();
  const change = page.getByRole('button', { name: 'Change what it reads' });
  await expect(change).toBeDisabled();
  const reads = page.getByRole('combobox', { name: 'Reads' });
  await reads.fill('bins.scanned');
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('Enter');
  await page.keyboard.press('Tab');
  await page.getByRole('combobox', { name: 'Begins in new ones at' }).click();
  await page.getByRole('option', { name: 'what is appended from now on' }).click();
  await change.click();
  await expect(row).toContainText('bins.weighed, bins.scanned');
  await expect(row).toContainText('60,252');
  await row.getByRole('button', { name: 'Topics' }).click();
  await reads.focus();
  await page.keyboard.press('Backspace');
  await page.keyboard.press('Tab');
  await expect(page.getByText('It reads bins.scanned no more: its positions there are lost.')).toBeVisible();
  await accessible(page);
  await change.click();
  await expect(row).not.toContainText('bins.scanned');
  await accessible(page);
});

test('settings say what they remove, partitions ask about keys, deleting asks for the name', async ({ page, demo }) => {
  const old = { value: 'old', partition: 0, timestamp: '2001-01-01T00:00:00Z' };
  await page.request.post('/api/v1/topics', { data: { name: 'loads.departed', partitions: 1 } });
  await page.request.post('/api/v1/topics/loads.departed/records', { data: old });
  appendedAsItHappened(demo, 'loads.departed');
  await page.request.post('/api/v1/topics/loads.departed/records', { data: { value: 'new' } });
  await page.goto('/topics/loads.departed/settings');
  await page.getByRole('textbox', { name: 'Forget after' }).fill('30');
  await page.getByRole('button', { name: 'Show what this removes' }).click();
  await expect(page.getByText(/1 record \(\d+ B\) would be forgotten/)).toBeVisible();
  await expect(page.getByText('all before offset 1')).toBeVisible();
  await accessible(page);
  await page.getByRole('button', { name: 'Save, and forget 1 record' }).click();
  await expect(page.getByText('Keeps every record, for 30 d.')).toBeVisible();
  // the keeper is told and does it within seconds
  await expect(page.getByText('1 to 1')).toBeVisible();

  await page.getByRole('button', { name: 'Add partitions' }).click();
  await expect(page.getByText('Most keys go to another partition from then on.')).toBeVisible();
  await page.getByRole('button', { name: 'Have 2 partitions' }).click();
  await expect(page.getByText('It has 2.')).toBeVisible();

  await page.getByRole('button', { name: 'Delete the topic' }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog).toContainText('1 record ');
  await dialog.getByRole('textbox').fill('loads.departed');
  await dialog.getByRole('button', { name: 'Delete the topic' }).click();
  await expect(page).toHaveURL(/\/topics$/);
  await expect(page.getByRole('link', { name: 'bins.weighed' })).toBeVisible();
  await expect(page.getByRole('link', { name: 'loads.departed' })).toHaveCount(0);
});

test('what will be forgotten before it is read is told a day ahead, wherever one looks', async ({ page, demo }) => {
  const hours = (n: number) => new Date(Date.now() - n * 3_600_000).toISOString();
  await page.request.post('/api/v1/topics', { data: { name: 'gates.opened', partitions: 1 } });
  for (const [at, count] of [
    [40, 3],
    [1, 5],
  ] as const) {
    const records = Array.from({ length: count }, (_, n) => ({ value: `gate ${n}`, timestamp: hours(at) }));
    await page.request.post('/api/v1/topics/gates.opened/records', { data: records });
  }
  appendedAsItHappened(demo, 'gates.opened');
  await page.request.post('/api/v1/readers', { data: { name: 'night-watch', topics: ['gates.opened'] } });
  await page.goto('/topics/gates.opened');
  const note = page.getByRole('alert', { name: 'Soon forgotten' });
  await expect(page.getByRole('heading', { name: 'gates.opened' })).toBeVisible();
  await expect(note).toHaveCount(0);
  const data = { forget_after_ms: 48 * 3_600_000 };
  const headers = { 'If-Match': '"1"' };
  expect((await page.request.put('/api/v1/topics/gates.opened/settings', { data, headers })).status()).toBe(200);
  const told = /night-watch would miss 3 records of gates\.opened: the first are forgotten in [78] h/;
  await expect(async () => {
    await page.reload();
    await expect(note).toContainText(told, { timeout: 10_000 });
  }).toPass();
  await accessible(page);
  await page.goto('/flow');
  const attention = page.getByRole('region', { name: 'Needs attention' });
  await expect(attention).toContainText('night-watch');
  await attention.getByRole('link', { name: 'night-watch' }).click();
  await expect(note).toContainText('would miss 3 records');
  await expect(page.getByRole('row', { name: /^night-watch/ })).toBeVisible();
  await accessible(page);
  await confirmed(page, 'delete', 'readers/night-watch');
  await confirmed(page, 'delete', 'topics/gates.opened');
});

test('the size and the rate are drawn', async ({ page, demo }) => {
  demo.sql(
    'gonvel',
    "INSERT INTO topic_history SELECT id, now() - n * interval '5 minutes', 60301 - n * 1000, 900000 - n * 9000 FROM topics, generate_series(1, 20) n WHERE name = 'bins.weighed'",
  );
  await page.goto('/topics/bins.weighed/size');
  await expect(page.getByRole('img', { name: /Appended from .* to .*: at most/ })).toBeVisible();
  await expect(page.getByRole('img', { name: /Stored from/ })).toBeVisible();
  await accessible(page);
});
