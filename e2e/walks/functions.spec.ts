import { execFileSync } from 'node:child_process';

import { expect, type Page } from '@playwright/test';
import avro from 'avsc';
import protobuf from 'protobufjs';

import { withDemo } from '../support/demo';
import { items } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

const RECORDS = '/api/v1/topics/bins.weighed/records';

test('an application is seen by the name that it gives, with what was refused', async ({ page, demo }) => {
  expect((await page.request.post('/api/v1/topics', { data: { name: 'bins.weighed', partitions: 2 } })).ok()).toBe(
    true,
  );
  const grades = ['first', 'second', 'third'];
  for (let bin = 1; bin <= 30; bin += 1) {
    const record = { key: `bin-${bin}`, value: { bin, kg: bin + 0.5, quality: grades[bin % 3] } };
    const headers = ['-H', 'content-type: application/json', '-H', 'producer-name: scales of line 2'];
    execFileSync('curl', ['-sf', demo.url + RECORDS, ...headers, '-d', JSON.stringify(record)]);
  }
  const wrong = [{ value: { bin: 31 } }, { valu: 1 }];
  const partly = await page.request.post(`${RECORDS}?partial=true&producer=scales%20of%20line%202`, { data: wrong });
  expect(((await partly.json()) as { refused: { record: number }[] }).refused[0]?.record).toBe(1);
  await page.goto('/topics/bins.weighed/producers');
  const row = page.getByRole('row', { name: /scales of line 2/ });
  await expect(row).toContainText('31');
  await expect(row).toContainText('record 1: unknown field `valu`');
  await expect(page.getByText('Written by scales of line 2; read by no connector.')).toBeVisible();
  await page.goto('/flow');
  const application = page.getByRole('button', { name: /Application scales of line 2, application/ });
  await application.focus();
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/\/topics\/bins\.weighed\/producers$/);
});

test('a function is held to its examples, and a change shows what it does to the rows of what calls it', async ({
  page,
}) => {
  await page.goto('/functions');
  await page.getByRole('link', { name: 'Write a function' }).first().click();
  await page.getByRole('textbox', { name: 'Name', exact: true }).fill('grade_points');
  await page.getByLabel('Example 1 gives').fill('4');
  await expect(page.getByRole('alert')).toHaveText('gives 3');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByText('example 1 gives 3, and says 4').first()).toBeVisible();
  await page.getByLabel('Example 1 gives').fill('3');
  await expect(page.getByText('holds')).toBeVisible();
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('heading', { name: 'grade_points' })).toBeVisible();
  await expect(page.getByText('Used by nothing yet.')).toBeVisible();

  const rows = {
    columns: [
      { name: 'bin', type: 'bigint', path: ['bin'] },
      { name: 'quality', type: 'text', path: ['quality'] },
      { name: 'p', type: 'integer', part: 'partition', key: true },
      { name: 'o', type: 'bigint', part: 'offset', key: true },
    ],
  };
  const steps = [{ step: 'compute', column: 'points', value: 'grade_points(quality)' }];
  const definition = {
    kind: 'topics',
    carries: [{ topic: 'bins.weighed', to: 'bins.paid', rows }],
    partitions: 2,
    shape: { steps: { 'bins.weighed': steps } },
  };
  const made = await page.request.post('/api/v1/connectors', { data: { name: 'pay-bins', definition, start: true } });
  expect(made.ok()).toBe(true);
  await page.reload();
  await expect(page.getByText('Used by pay-bins.')).toBeVisible();
  const expression = page.getByRole('textbox', { name: 'Expression' });
  await expression.click();
  await page.keyboard.press('Control+A');
  await page.keyboard.type("CASE grade WHEN 'first' THEN 3 WHEN 'second' THEN 1 ELSE 0 END");
  const effect = page.getByRole('region', { name: 'What it does to those that use it' });
  await expect(effect).toContainText('10 change');
  await expect(effect).toContainText('points: 2 → 1');
  await page.getByRole('button', { name: 'Save as the next version' }).click();
  await expect(page.getByText('Version 2')).toBeVisible();
  // what it gives from then on
  await page.request.post(RECORDS, { data: { key: 'bin-40', value: { bin: 40, kg: 3, quality: 'second' } } });
  const points = async () => {
    type Paid = { value: { new: { bin: number; points: number } } };
    const records = await items<Paid>(page, 'topics/bins.paid/records?order=newest&limit=40');
    return records.find((r) => r.value.new.bin === 40)?.value.new.points;
  };
  await expect.poll(points).toBe(1);
});

test('what another saves is seen in the list, and takes nothing from whoever is writing', async ({ page }) => {
  const save = (value: string, version?: number) =>
    page.request.put('/api/v1/functions/halved', {
      headers: version === undefined ? {} : { 'if-match': `"${version}"` },
      data: {
        function: {
          name: 'halved',
          parameters: [{ name: 'kg', type: 'bigint' }],
          gives: 'bigint',
          value,
          examples: [{ given: ['8'], gives: '4' }],
        },
      },
    });
  await page.goto('/functions');
  await expect(page.getByRole('link', { name: 'grade_points' })).toBeVisible();
  expect((await save('kg / 2')).status()).toBe(200);
  await page.getByRole('link', { name: 'halved' }).click();
  const expression = page.getByRole('textbox', { name: 'Expression' });
  await expression.click();
  await page.keyboard.press('Control+A');
  await page.keyboard.type('kg - 4');
  expect((await save('4', 1)).status()).toBe(200);
  await page.waitForTimeout(1_500);
  await expect(expression).toContainText('kg - 4');
  await page.getByRole('button', { name: 'Save as the next version' }).click();
  await expect(page.getByRole('alert').filter({ hasText: 'changed' })).toBeVisible();
  await expect(expression).toContainText('kg - 4');
  const kept = (await (await page.request.get('/api/v1/functions/halved')).json()) as { function: { value: string } };
  expect(kept.function.value).toBe('4');
});

const WEIGHED = {
  type: 'record',
  name: 'Weighed',
  fields: [
    { name: 'binNumber', type: 'long' },
    { name: 'kg', type: 'double' },
    { name: 'grade', type: { type: 'enum', name: 'Grade', symbols: ['first', 'second'] }, aliases: ['quality'] },
  ],
} as const;
const PROTO = `syntax = "proto3"; message Weighed { int64 bin_number = 1; double kg = 2; string quality = 3; }`;

/** The values of a topic as the bytes that they are stored as. */
async function stored(page: Page, topic: string): Promise<Buffer[]> {
  const found = await page.request.get(`/api/v1/topics/${topic}/records?order=oldest&limit=100&raw=true`);
  if (!found.ok()) return [];
  const { items: records } = (await found.json()) as { items: { value_base64?: string }[] };
  return records.map((r) => Buffer.from(r.value_base64 ?? '', 'base64'));
}

test('rows are written under schemas that are there, and other libraries read them', async ({ page }) => {
  const register = (name: string, language: string, text: string) =>
    page.request.post('/api/v1/schemas', { data: { name, language, text } });
  expect((await register('weighed.avro', 'avro', JSON.stringify(WEIGHED))).ok()).toBe(true);
  expect((await register('weighed.proto', 'protobuf', PROTO)).ok()).toBe(true);
  for (const [language, schema] of [
    ['avro', 'weighed.avro'],
    ['proto', 'weighed.proto'],
  ] as const) {
    await page.goto('/connectors/new?kind=topics&topics=bins.weighed');
    await page.getByLabel('Topic for the rows of bins.weighed').fill(`bins.${language}`);
    const choice = page.getByRole('combobox', { name: 'Schema for the rows of bins.weighed' });
    await choice.fill(schema);
    await page.getByRole('option', { name: schema }).click();
    if (language === 'avro') {
      // a needed field without a column is asked for, and what is near is proposed
      await expect(page.getByText('1 field needs a look')).toBeVisible();
      await page.getByRole('button', { name: 'Fields for bins.weighed' }).click();
      const fields = page.getByRole('dialog');
      await expect(fields.getByRole('row', { name: /^grade/ })).toContainText('by an alias');
      await expect(fields.getByRole('row', { name: /^binNumber/ })).toContainText('needs a column');
      await fields.getByRole('button', { name: /^Take bin/ }).click();
      await expect(fields.getByRole('row', { name: /^binNumber/ })).toContainText('chosen');
      await page.keyboard.press('Escape');
      await expect(page.getByText('3 of 3 fields linked')).toBeVisible();
    } else {
      await page.getByRole('button', { name: 'Fields for bins.weighed' }).click();
      const fields = page.getByRole('dialog');
      await fields.getByRole('combobox', { name: 'Column for bin_number' }).fill('bin (');
      await page.getByRole('option', { name: 'bin (bigint)' }).click();
      await page.keyboard.press('Escape');
    }
    await page.getByLabel('Name of the connector').fill(`weighed-in-${language}`);
    await page.getByRole('button', { name: 'Create and start' }).click();
    await expect(page.getByRole('heading', { name: `weighed-in-${language}` })).toBeVisible();
  }
  // the third grade is none of the schema's: those wait, and one record has no grade at all
  const inAvro = avro.Type.forSchema(JSON.parse(JSON.stringify(WEIGHED)) as avro.Schema);
  await expect.poll(async () => (await stored(page, 'bins.avro')).length).toBe(21);
  const weighed = (await stored(page, 'bins.avro')).map(
    (bytes) => inAvro.fromBuffer(bytes.subarray(10)) as { binNumber: number; kg: number; grade: string },
  );
  const first = weighed.find((w) => w.binNumber === 3);
  expect([first?.kg, first?.grade]).toEqual([3.5, 'first']);
  expect(new Set(weighed.map((w) => w.grade))).toEqual(new Set(['first', 'second']));
  const message = protobuf.parse(PROTO).root.lookupType('Weighed');
  await expect.poll(async () => (await stored(page, 'bins.proto')).length).toBe(32);
  const read = (await stored(page, 'bins.proto')).map((bytes) =>
    message.toObject(message.decode(bytes), { longs: Number }),
  );
  expect(read.find((r) => r.binNumber === 5)).toEqual({ binNumber: 5, kg: 5.5, quality: 'third' });
  await page.goto('/quarantine');
  await expect(page.getByText(/at \$\.grade/).first()).toBeVisible();
});

test('each element of an array becomes a row', async ({ page, demo }) => {
  const deliveries = [1, 2, 3].map((delivery) => ({
    value: { delivery, lots: Array.from({ length: delivery }, (_, n) => ({ lot: delivery * 10 + n, kg: 12.5 })) },
  }));
  await page.request.post('/api/v1/topics', { data: { name: 'deliveries', partitions: 1 } });
  await page.request.post('/api/v1/topics/deliveries/records', { data: deliveries });
  await page.goto('/connectors/new?kind=sink&topics=deliveries');
  await page.getByRole('button', { name: 'Columns of deliveries' }).click();
  await page.getByRole('combobox', { name: 'A row for each element of' }).click();
  await page.getByRole('option', { name: 'lots', exact: true }).click();
  await expect(page.getByText('All of the newest 3 records become rows.')).toBeVisible();
  await expect(page.getByRole('region', { name: 'The newest rows' }).getByRole('row')).toHaveCount(7);
  await page.getByRole('button', { name: 'Back to the connector' }).click();
  await expect(page.getByText(/a row for each of lots/)).toBeVisible();
  const to = page.getByRole('region', { name: 'To', exact: true });
  const fields = { Name: 'settlement', Port: String(demo.pgPort), Database: 'settlement', User: 'gonvel' };
  for (const [label, value] of Object.entries(fields)) await to.getByLabel(label).fill(value);
  await to.getByRole('textbox', { name: 'Password' }).fill(demo.password);
  await to.getByRole('button', { name: 'Save connection' }).click();
  await expect(page.getByLabel('Name of the connector')).not.toHaveValue('');
  await page.getByRole('button', { name: 'Create and start' }).click();
  const lots = 'SELECT count(*), min(lot), max(place) FROM deliveries';
  await expect
    .poll(() => demo.asked('settlement', "SELECT count(*) FROM pg_tables WHERE tablename = 'deliveries'"))
    .toBe('1');
  await expect.poll(() => demo.asked('settlement', lots)).toBe('6|10|3');
});

test('events of several types go to tables of their own, and a new field becomes a column', async ({ page, demo }) => {
  await page.request.post('/api/v1/topics', { data: { name: 'coldstore.events', partitions: 2 } });
  const publish = async (events: { kind: string; [field: string]: unknown }[]) => {
    const records = events.map((value) => ({ key: String(value.room), value }));
    expect((await page.request.post('/api/v1/topics/coldstore.events/records', { data: records })).ok()).toBe(true);
  };
  const rooms = Array.from({ length: 12 }, (_, n) => n + 1);
  await publish(rooms.map((room) => ({ kind: 'reading', room, celsius: room / 2 })));
  await publish(rooms.map((room) => ({ kind: 'door', room, open: room % 2 === 0 })));
  await publish([{ kind: 'test', room: 1 }]);
  await page.goto('/connectors/new?kind=sink&topics=coldstore.events');
  await page.getByRole('button', { name: 'Types in coldstore.events' }).click();
  const dialog = page.getByRole('dialog');
  await expect(dialog.getByRole('combobox')).toHaveValue('field kind');
  await dialog.getByRole('checkbox', { name: /test/ }).uncheck();
  await dialog.getByRole('button', { name: 'Read them apart' }).click();
  await expect(page.getByLabel('Table for coldstore.events [reading]')).toHaveValue('reading');
  await page.getByLabel('Table for coldstore.events [door]').fill('doors');
  await page.getByRole('button', { name: 'Columns of coldstore.events [reading]' }).click();
  await expect(page.getByText('All of the newest 12 records of this type become rows.')).toBeVisible();
  // a type's columns are those that its events have
  await expect(page.getByRole('textbox', { name: /Name of column/ })).toHaveCount(7);
  await page.getByText('Added as columns').click();
  await page.getByRole('button', { name: 'Back to the connector' }).click();
  const to = page.getByRole('region', { name: 'To', exact: true });
  await to.getByRole('combobox', { name: 'Connection' }).click();
  await page.getByRole('option', { name: /^settlement/ }).click();
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByText('following').first()).toBeVisible();
  await expect(page.getByRole('table', { name: 'Changes by table and kind' })).toContainText('[door]');
  const rows = (table: string) => () => demo.asked('settlement', `SELECT count(*), sum(room) FROM ${table}`);
  await expect.poll(rows('reading')).toBe('12|78');
  await expect.poll(rows('doors')).toBe('12|78');
  await publish([{ kind: 'reading', room: 13, celsius: 1.5, humidity: 91 }]);
  await expect.poll(rows('reading')).toBe('13|91');
  expect(demo.sql('settlement', 'SELECT room, humidity::int FROM reading WHERE humidity IS NOT NULL')).toBe('13|91');
  // what was added stands where a person looks for it
  await page.getByRole('tab', { name: 'History and versions' }).click();
  await expect(page.getByText(/never seen before became columns: humidity numeric/)).toBeVisible();
});
