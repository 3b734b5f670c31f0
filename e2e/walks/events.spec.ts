import { execFileSync } from 'node:child_process';
import { randomInt } from 'node:crypto';

import { expect, type Page } from '@playwright/test';
import avro from 'avsc';
import { CloudEvent, emitterFor, httpTransport, Mode } from 'cloudevents';
import protobuf from 'protobufjs';

import { withDemo } from '../support/demo';
import { items } from '../support/interface';

const test = withDemo('--empty');

test.describe.configure({ mode: 'serial' });

/** Makes a topic. */
async function topic(page: Page, name: string) {
  expect((await page.request.post('/api/v1/topics', { data: { name, partitions: 3 } })).status()).toBe(201);
}

/** What a person does, counted: clicks and fields. */
function counted() {
  let count = 0;
  return {
    count: () => count,
    did: async (action: Promise<void>) => {
      count += 1;
      await action;
    },
  };
}

test('events of an ordinary library and of curl land as typed rows, in at most 12 clicks and fields', async ({
  page,
  demo,
}) => {
  await topic(page, 'coldstore.doors');
  const address = `${demo.url}/api/v1/topics/coldstore.doors/records`;
  const [binary, structured] = [Mode.BINARY, Mode.STRUCTURED].map((mode) =>
    emitterFor(httpTransport(address), { mode }),
  );
  const event = (room: number) =>
    new CloudEvent({
      source: `/coldstore/rooms/${room}`,
      type: 'coldstore.door',
      time: `2026-11-25T09:${String(room).padStart(2, '0')}:00.000Z`,
      partitionkey: `room-${room}`,
      data: { room, celsius: room / 4, door: { open: room % 2 === 0 } },
    });
  for (let room = 1; room <= 20; room += 1) await binary?.(event(room));
  for (let room = 21; room <= 40; room += 1) await structured?.(event(room));
  const curled = { key: 'room-41', value: { room: 41, celsius: 10.25, door: { open: false } } };
  execFileSync('curl', ['-sf', address, '-H', 'content-type: application/json', '-d', JSON.stringify(curled)]);

  await page.goto('/topics/coldstore.doors');
  const { did, count } = counted();
  await did(page.getByRole('link', { name: 'Deliver to a system' }).click());
  await expect(page.getByText(/Events: \d+ columns · each record a row/)).toBeVisible();
  const to = page.getByRole('region', { name: 'To', exact: true });
  const fields = { Name: 'settlement', Port: String(demo.pgPort), Database: 'settlement', User: 'gonvel' };
  for (const [label, value] of Object.entries(fields)) await did(to.getByLabel(label).fill(value));
  await did(to.getByRole('textbox', { name: 'Password' }).fill(demo.password));
  await did(to.getByRole('button', { name: 'Save connection' }).click());
  await expect(page.getByLabel('Name of the connector')).not.toHaveValue('');
  await did(page.getByRole('button', { name: 'Create and start' }).click());
  await expect(page.getByText('following').first()).toBeVisible();
  expect(count()).toBeLessThanOrEqual(12);

  const rows = 'SELECT count(*) FROM doors';
  await expect.poll(() => demo.asked('settlement', rows)).toBe('41');
  const typed =
    'SELECT pg_typeof(room), pg_typeof(celsius), pg_typeof(door_open), pg_typeof(event_time), sum(celsius) OVER () FROM doors LIMIT 1';
  expect(demo.sql('settlement', typed)).toBe('bigint|double precision|boolean|timestamp with time zone|215.25');
  const one =
    "SELECT room, celsius, door_open, event_type, event_time AT TIME ZONE 'UTC', record_key FROM doors WHERE room = 30";
  expect(demo.sql('settlement', one)).toBe('30|7.5|t|coldstore.door|2026-11-25 09:30:00|room-30');
  expect(demo.sql('settlement', 'SELECT count(*) FROM doors WHERE event_type IS NULL')).toBe('1');
});

test('the lines to publish by, as they are copied, publish', async ({ page }) => {
  // a slow server: what can be copied is what will stand there
  await page.route('**/coldstore.doors/records*', async (route) => {
    await new Promise((resolve) => setTimeout(resolve, 1_000));
    await route.continue();
  });
  await page.goto('/topics/coldstore.doors');
  await page.getByRole('tab', { name: 'Publish' }).click();
  const text = () => page.getByLabel('Lines to publish by').innerText();
  const records = async () => {
    const found = (await (await page.request.get('/api/v1/topics/coldstore.doors')).json()) as { records: number };
    return found.records;
  };
  const before = await records();
  expect(await text()).toContain('door');
  await page.unrouteAll({ behavior: 'wait' });
  execFileSync('bash', ['-c', await text()]);
  await page.getByText('CloudEvents', { exact: true }).click();
  execFileSync('bash', ['-c', await text()]);
  await page.getByText('JavaScript', { exact: true }).click();
  execFileSync('node', ['--input-type=module', '-e', await text()]);
  await page.getByText('JSON', { exact: true }).click();
  execFileSync('node', ['--input-type=module', '-e', await text()]);
  await page.getByText('Python', { exact: true }).click();
  execFileSync('python3', ['-c', await text()]);
  await page.getByText('CloudEvents', { exact: true }).click();
  execFileSync('python3', ['-c', await text()]);
  await expect.poll(records).toBe(before + 6);
});

test('columns are changed with the records beside them, and what does not fit is said before it runs', async ({
  page,
  demo,
}) => {
  await page.goto('/connectors/new?kind=sink');
  await page.getByRole('checkbox', { name: /coldstore\.doors/ }).check();
  await page.getByLabel('Table for coldstore.doors').fill('last_doors');
  await page.getByRole('button', { name: 'Columns of coldstore.doors' }).click();
  await expect(page.getByText('All of the newest 47 records become rows.')).toBeVisible();
  const open = page.getByRole('row', { name: /door › open/ });
  await expect(open).toContainText('always · true or false');
  // a type that does not fit is told with how many and where
  const type = page.getByRole('combobox', { name: 'Type of celsius' });
  await type.fill('smallint');
  await expect(page.getByRole('status')).toContainText(/of the newest 47 records would go to quarantine/);
  await expect(page.getByRole('status')).toContainText('at $.celsius: the number is not whole');
  await type.fill('no such type');
  await expect(page.getByRole('alert')).toContainText('no such type, which is none');
  await type.fill('numeric(5,2)');
  await page.getByLabel('Name of column 1', { exact: true }).fill('room_no');
  await page.getByText('The newest by columns').click();
  await expect(page.getByRole('checkbox', { name: 'room_no is part of the key' })).toBeChecked();
  await page.getByText('Kept as JSON').click();
  await page.getByRole('button', { name: 'Take door_open out' }).click();
  await expect(page.getByText('All of the newest 47 records become rows.')).toBeVisible();
  await expect(page.getByRole('region', { name: 'The newest rows' })).toContainText('{"door": {"open": ');
  await page.getByRole('button', { name: 'Back to the connector' }).click();
  await expect(page.getByText(/the newest of each room_no/)).toBeVisible();
  await page.getByRole('combobox', { name: 'Connection' }).click();
  await page.getByRole('option', { name: 'settlement' }).click();
  await page.getByLabel('Name of the connector').fill('last-doors');
  // the same as a manifest, there and back
  await page.getByText('Manifest', { exact: true }).click();
  await expect(page.getByRole('textbox', { name: 'Manifest' })).toContainText('part: rest');
  await page.getByText('Form', { exact: true }).click();
  await page.getByRole('button', { name: 'Create and start' }).click();
  await expect(page.getByRole('heading', { name: 'last-doors' })).toBeVisible();
  const kept = "SELECT celsius, other_fields->'door'->>'open' FROM last_doors WHERE room_no = 30";
  await expect
    .poll(() => demo.asked('settlement', `SELECT count(*) FROM pg_tables WHERE tablename = 'last_doors'`))
    .toBe('1');
  await expect.poll(() => demo.asked('settlement', kept)).toBe('7.50|true');
  // the newest of a room counts, and what is no row waits
  const address = '/api/v1/topics/coldstore.doors/records';
  const send = (value: unknown) => page.request.post(address, { data: { key: 'room-30', value } });
  await send({ room: 30, celsius: 1 });
  await send({ room: 'thirty', celsius: 2 });
  await expect.poll(() => demo.asked('settlement', kept)).toBe('1.00|');
  await page.goto('/quarantine');
  await expect(page.getByText(/at \$\.room: it is not a value of type bigint/).first()).toBeVisible();
});

const READING = {
  type: 'record',
  name: 'Reading',
  fields: [
    { name: 'id', type: 'long' },
    { name: 'small', type: 'int' },
    { name: 'ratio', type: 'double' },
    { name: 'open', type: ['null', 'boolean'], default: null },
    { name: 'note', type: ['null', 'string', 'int'], default: null },
    { name: 'day', type: { type: 'int', logicalType: 'date' } },
    { name: 'at', type: { type: 'long', logicalType: 'timestamp-millis' } },
    { name: 'grade', type: { type: 'enum', name: 'Grade', symbols: ['EXTRA', 'FIRST'] } },
    { name: 'tags', type: { type: 'array', items: 'string' } },
    { name: 'places', type: { type: 'map', values: 'long' } },
    { name: 'door', type: ['null', { type: 'record', name: 'Door', fields: [{ name: 'mm', type: 'float' }] }] },
    { name: 'raw', type: 'bytes' },
  ],
} as const;

/** The library leaves logical types that it does not know out of the schema that it writes. */
class AsItIs extends avro.types.LogicalType {
  override _fromValue(value: unknown) {
    return value;
  }
  override _toValue(value: unknown) {
    return value;
  }
}

const PROTO = `syntax = "proto3";
message Reading {
  int64 id = 1; sint32 small = 2; double ratio = 3; optional bool open = 4; optional string note = 5;
  repeated string tags = 6; map<string, int64> places = 7; Door door = 8; bytes raw = 9; Grade grade = 10;
  message Door { float mm = 1; }
  enum Grade { EXTRA = 0; FIRST = 1; }
}`;

// beyond 2^52 the Avro library doubles numbers that its language cannot hold exactly
const WHOLE = [0, 1, -1, 2 ** 31 - 1, -(2 ** 31), 2 ** 52 - 1, -(2 ** 52 - 1)];
const DOUBLES = [0, -0.5, 1e-300, 1.7976931348623157e308, 0.1, 123456789.125];
const TEXTS = ['', 'Tür "B"\n\t\\N', 'null', '🍎', '{a,b}', "O'Dell"];
const pick = <T>(from: readonly T[]): T => from[randomInt(from.length)] as T;
const maybe = <T>(value: T): T | null => (randomInt(3) === 0 ? null : value);

/** A reading by chance, with the edges of every type. */
function reading(n: number) {
  return {
    id: n < WHOLE.length ? (WHOLE[n] ?? 0) : n * 1_000_003,
    small: pick(WHOLE.slice(0, 5)),
    ratio: pick(DOUBLES),
    open: maybe(randomInt(2) === 1),
    note: maybe(pick(TEXTS)),
    day: randomInt(-700_000, 2_000_000),
    at: randomInt(0, 2 ** 41),
    grade: pick(['EXTRA', 'FIRST'] as const),
    tags: Array.from({ length: randomInt(4) }, () => pick(TEXTS)),
    places: Object.fromEntries(Array.from({ length: randomInt(3) }, (_, m) => [`place ${m}`, pick(WHOLE)])),
    door: maybe({ mm: pick([0, 0.5, -1.25, 1024]) }),
    raw: Buffer.from(Array.from({ length: randomInt(5) }, () => randomInt(256))),
  };
}
type Reading = ReturnType<typeof reading>;

const COLUMNS = [
  { name: 'id', type: 'bigint', path: ['id'], key: true },
  { name: 'small', type: 'integer', path: ['small'] },
  { name: 'ratio', type: 'double precision', path: ['ratio'] },
  { name: 'open', type: 'boolean', path: ['open'] },
  { name: 'note', type: 'text', path: ['note'] },
  { name: 'grade', type: 'text', path: ['grade'] },
  { name: 'tags', type: 'text[]', path: ['tags'] },
  { name: 'places', type: 'jsonb', path: ['places'] },
  { name: 'mm', type: 'real', path: ['door', 'mm'] },
  { name: 'raw', type: 'bytea', path: ['raw'] },
];

/** The row of a reading as the database says it in JSON. */
function expected(r: Reading) {
  const { id, small, ratio, open, note, grade, tags, places, door, raw } = r;
  return { id, small, ratio, open, note, grade, tags, places, mm: door?.mm ?? null, raw: `\\x${raw.toString('hex')}` };
}

/** Delivers a topic, and waits for its rows. */
async function delivered(
  page: Page,
  demo: { sql: (database: string, statement: string) => string },
  name: string,
  columns: unknown[],
  count: number,
) {
  const connections = await items<{ id: string; name: string }>(page, 'connections');
  const connection = connections.find((c) => c.name === 'settlement')?.id;
  const table = name.replace('.', '_');
  const topics = [{ topic: name, schema: 'public', table, rows: { columns } }];
  const made = await page.request.post('/api/v1/connectors', {
    data: { name: table, start: true, definition: { kind: 'sink', connection, topics } },
  });
  expect(made.status(), await made.text()).toBe(201);
  const rows = () => {
    if (demo.sql('settlement', `SELECT to_regclass('${table}') IS NOT NULL`) !== 't') return [];
    const all = demo.sql('settlement', `SELECT coalesce(json_agg(t ORDER BY id), '[]') FROM ${table} t`);
    return JSON.parse(all) as Record<string, unknown>[];
  };
  await expect
    .poll(() => rows().length)
    .toBe(count)
    .catch(async (error: unknown) => {
      const said = await page.request.get(`/api/v1/quarantine/causes`);
      const connectors = await page.request.get('/api/v1/connectors');
      throw new Error(`${String(error)}: ${await said.text()} ${await connectors.text()}`);
    });
  return rows();
}

test('values that ordinary Avro and Protocol Buffers libraries write become the rows that those libraries mean', async ({
  page,
  demo,
}) => {
  const readings = Array.from({ length: 400 }, (_, n) => reading(n));
  const wanted = readings.map(expected).sort((a, b) => a.id - b.id);

  await topic(page, 'avro.readings');
  const logicalTypes = { date: AsItIs, 'timestamp-millis': AsItIs };
  const type = avro.Type.forSchema(READING as unknown as avro.Schema, { wrapUnions: false, logicalTypes });
  const encoder = new avro.streams.BlockEncoder(type, { codec: 'deflate' });
  const parts: Buffer[] = [];
  encoder.on('data', (part: Buffer) => parts.push(part));
  const done = new Promise((resolve) => encoder.once('end', resolve));
  readings.forEach((r) => encoder.write(r));
  encoder.end();
  await done;
  const appended = await page.request.post('/api/v1/topics/avro.readings/records', {
    headers: { 'content-type': 'application/avro' },
    data: Buffer.concat(parts),
  });
  expect(appended.status(), await appended.text()).toBe(200);
  const dated = [
    ...COLUMNS,
    { name: 'day', type: 'date', path: ['day'] },
    { name: 'at', type: 'timestamp with time zone', path: ['at'] },
  ];
  const ofAvro = await delivered(page, demo, 'avro.readings', dated, readings.length);
  expect(ofAvro.map(({ day: _day, at: _at, ...row }) => row)).toEqual(wanted);
  const sorted = [...readings].sort((a, b) => a.id - b.id);
  expect(ofAvro.map((row) => new Date(String(row.at)).getTime())).toEqual(sorted.map((r) => r.at));
  const days = demo.sql('settlement', "SELECT json_agg(day - DATE '1970-01-01' ORDER BY id) FROM avro_readings");
  expect(JSON.parse(days)).toEqual(sorted.map((r) => r.day));

  await topic(page, 'proto.readings');
  const made = await page.request.post('/api/v1/schemas', {
    data: { name: 'proto.reading', language: 'protobuf', text: PROTO },
  });
  expect(made.status(), await made.text()).toBe(201);
  const bound = await page.request.put('/api/v1/topics/proto.readings/schemas/value', {
    data: { schema: 'proto.reading', required: true },
  });
  expect(bound.ok(), await bound.text()).toBe(true);
  const Message = protobuf.parse(PROTO, { keepCase: true }).root.lookupType('Reading');
  const records = readings.map((r) => {
    const grade = r.grade === 'FIRST' ? 1 : 0;
    const value = Object.fromEntries(Object.entries({ ...r, grade }).filter(([, v]) => v !== null));
    return { value_base64: Buffer.from(Message.encode(Message.create(value)).finish()).toString('base64') };
  });
  const sent = await page.request.post('/api/v1/topics/proto.readings/records', { data: records });
  expect(sent.status(), await sent.text()).toBe(200);
  expect(await delivered(page, demo, 'proto.readings', COLUMNS, readings.length)).toEqual(wanted);
});
