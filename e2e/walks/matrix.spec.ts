/**
 * Every form of value, in every way of writing, with and without a shape, while the server is killed: the rows are those that other
 * libraries read of the same bytes. `READINGS=10000` for as many of each form.
 */
import { expect } from '@playwright/test';
import { CloudEvent } from 'cloudevents';

import { withDemo, type Demo } from '../support/demo';
import { canonical, FIRST_AT, FORMS, meant, type Form, type Meant } from '../support/readings';

const test = withDemo('--empty');

const COUNT = Number(process.env.READINGS ?? 1_250);
const KEYS = 150;
const PARTS = 5;

/** A record in a topic, and the row that it is expected to become; none where it is wrong. */
interface Came {
  key: string;
  gone: boolean;
  row: string | null;
}

interface Topic {
  name: string;
  columns: unknown[];
  /** Step by which its rows are shaped, and what it makes of a row. */
  step: { column: string; value: string };
  /** The rows of a table in canonical form, and what the step made, one a line. */
  shown: string;
  came: Came[];
  /** Appends a part of its readings. */
  append: (part: number) => Promise<void>;
}

const COLUMNS = [
  { name: 'n', type: 'bigint', path: ['n'], required: true },
  { name: 'small', type: 'integer', path: ['small'] },
  { name: 'ratio', type: 'double precision', path: ['ratio'] },
  { name: 'day', type: 'date', path: ['day'] },
  { name: 'open', type: 'boolean', path: ['open'] },
  { name: 'kg', type: 'numeric(12,3)', path: ['kg'] },
  { name: 'note', type: 'text', path: ['note'] },
  { name: 'mm', type: 'real', path: ['door', 'mm'] },
];
const FACTS = [
  { name: 'id', type: 'text', part: 'key' },
  { name: 'p', type: 'integer', part: 'partition' },
  { name: 'o', type: 'bigint', part: 'offset' },
];
const AT =
  "json_build_object('n', n::text, 'small', small, 'ratio', ratio::text, 'day', day, 'open', open, 'kg', kg::text, 'note', note, \
'door', json_build_object('mm', mm), 'at', AT)";
/** How a form's time is read: a number where no type of column takes it as a time. */
const times = (form: string) =>
  form === 'protobuf'
    ? { column: { name: 'at', type: 'bigint', path: ['at'] }, shown: AT.replace('AT)', 'at)') }
    : {
        column: { name: 'at', type: 'timestamp with time zone', path: ['at'] },
        shown: AT.replace('AT)', '(extract(epoch FROM at) * 1000)::bigint)'),
      };

/** When a record was made: each a moment after the one before, as states of a row are told apart by it. */
const BEGAN = Date.now() - 3_600_000;
const madeAt = (reading: Meant) => new Date(BEGAN + ((reading.fields.at as number) - FIRST_AT) / 977).toISOString();

async function call(demo: Demo, method: string, path: string, body?: unknown, type = 'application/json') {
  const text = typeof body === 'string' ? body : JSON.stringify(body);
  const answer = await fetch(`${demo.url}/api/v1${path}`, { method, body: text, headers: { 'content-type': type } });
  const said = await answer.text();
  if (!answer.ok) throw new Error(`${method} ${path}: ${answer.status} ${said}`);
  return said === '' ? null : (JSON.parse(said) as unknown);
}

/** A topic of one of the forms that have fields. */
async function ofForm(demo: Demo, form: Form, number: number): Promise<Topic> {
  const name = `form.${form.name}`;
  await call(demo, 'POST', '/topics', { name, partitions: 2 });
  const readings = meant(number + 1, COUNT, KEYS);
  const came: Came[] = [];
  const { column, shown } = times(form.name);
  const schema = `schema.${form.name}`;
  const append = async (part: number) => {
    // the second half is written by the schema's second version
    const version = form.schemas.length > 1 && part >= PARTS / 2 ? 1 : 0;
    if (form.language && part === 0) {
      await call(demo, 'POST', '/schemas', { name: schema, language: form.language, text: form.schemas[0] });
      await call(demo, 'PUT', `/topics/${name}/schemas/value`, { schema, required: true });
    }
    if (version === 1 && part === Math.ceil(PARTS / 2))
      await call(demo, 'POST', `/schemas/${schema}/versions`, { text: form.schemas[1] });
    const of = readings.slice(Math.floor((COUNT * part) / PARTS), Math.floor((COUNT * (part + 1)) / PARTS));
    const records = of.map((reading) => {
      const at = `"timestamp": "${madeAt(reading)}"`;
      const value = reading.gone ? null : form.write(reading.fields, version);
      came.push({ key: reading.key, gone: reading.gone, row: rowOf(reading, value && form.read(value, version)) });
      if (value === null) return `{${at}, "key": "${reading.key}", "value": null}`;
      const binary = form.language === 'avro' || form.language === 'protobuf';
      if (binary) return `{${at}, "key": "${reading.key}", "value_base64": "${value.toString('base64')}"}`;
      return `{${at}, "key": "${reading.key}", "value": ${value.toString()}}`;
    });
    await call(demo, 'POST', `/topics/${name}/records`, `[${records.join(',')}]`);
  };
  const step = { column: 'twice', value: 'small::bigint * 2' };
  return { name, columns: [...COLUMNS, column], step, shown, came, append };
}

function rowOf(reading: Meant, read: Record<string, unknown> | null): string | null {
  if (reading.wrong || read === null) return null;
  return `${canonical(read)} | ${String(2n * BigInt(read.small as number | bigint))}`;
}

/** Events as their own library writes them, most of them in batches. */
async function ofEvents(demo: Demo): Promise<Topic> {
  const name = 'form.events';
  await call(demo, 'POST', '/topics', { name, partitions: 2 });
  const readings = meant(77, COUNT, KEYS);
  const came: Came[] = [];
  const append = async (part: number) => {
    const of = readings.slice(Math.floor((COUNT * part) / PARTS), Math.floor((COUNT * (part + 1)) / PARTS));
    let batch: CloudEvent<unknown>[] = [];
    const send = async () => {
      const events = batch;
      batch = [];
      if (events.length > 0)
        await call(demo, 'POST', `/topics/${name}/records`, events, 'application/cloudevents-batch+json');
    };
    for (const reading of of) {
      if (reading.gone) {
        await send();
        await call(demo, 'POST', `/topics/${name}/records`, {
          key: reading.key,
          value: null,
          timestamp: madeAt(reading),
        });
        came.push({ key: reading.key, gone: true, row: null });
        continue;
      }
      // the library takes no whole numbers that JavaScript's own cannot hold
      const n = reading.fields.n === undefined ? {} : { n: Number(BigInt.asIntN(48, reading.fields.n as bigint)) };
      const data = { ...reading.fields, ...n, at: new Date(reading.fields.at as number).toISOString() };
      const time = madeAt(reading);
      const event = new CloudEvent({ source: '/coldstore', type: 'reading', partitionkey: reading.key, time, data });
      batch.push(event);
      const read = JSON.parse(JSON.stringify(event.data)) as Record<string, unknown>;
      const row = rowOf(reading, { ...read, at: new Date(read.at as string).getTime() });
      came.push({ key: reading.key, gone: false, row });
    }
    await send();
  };
  const { column, shown } = times('events');
  return {
    name,
    columns: [...COLUMNS, column],
    step: { column: 'twice', value: 'small::bigint * 2' },
    shown,
    came,
    append,
  };
}

/** Values that are one column: text, of which some are none, or bytes. */
async function whole(demo: Demo, kind: 'text' | 'bytea' | 'jsonb'): Promise<Topic> {
  const name = `form.${kind}`;
  await call(demo, 'POST', '/topics', { name, partitions: 2 });
  const readings = meant({ text: 101, bytea: 102, jsonb: 103 }[kind], COUNT, KEYS);
  const came: Came[] = [];
  const append = async (part: number) => {
    const of = readings.slice(Math.floor((COUNT * part) / PARTS), Math.floor((COUNT * (part + 1)) / PARTS));
    const records = of.map((reading) => {
      const text = JSON.stringify({ a: reading.fields.note ?? null, b: [reading.fields.small] });
      const wrong = reading.wrong !== null && kind !== 'bytea';
      const bytes = wrong ? Buffer.from(kind === 'text' ? [0x61, 0xff, 0xfe] : '{"a": ') : Buffer.from(text);
      const shown = kind === 'bytea' ? bytes.toString('hex') : text;
      const length = kind === 'jsonb' ? 'object' : String(kind === 'bytea' ? bytes.length : [...text].length);
      came.push({ key: reading.key, gone: reading.gone, row: wrong || reading.gone ? null : `${shown} | ${length}` });
      return reading.gone
        ? { key: reading.key, value: null, timestamp: madeAt(reading) }
        : { key: reading.key, value_base64: bytes.toString('base64'), timestamp: madeAt(reading) };
    });
    await call(demo, 'POST', `/topics/${name}/records`, records);
  };
  const value = { name: 'value', type: kind, part: 'value', required: true };
  const as = { text: 'to_json(value)', bytea: "to_json(encode(value, 'hex'))", jsonb: 'to_json(value)' }[kind];
  const step = { column: 'twice', value: kind === 'jsonb' ? 'jsonb_typeof(value)' : 'length(value)' };
  return { name, columns: [value], step, shown: as, came, append };
}

const WAYS = ['current', 'appended', 'history', 'changes'] as const;
type Way = (typeof WAYS)[number];

/** The connector of a topic's cell, and its table. */
const tableOf = (topic: Topic, way: Way, shaped: boolean) =>
  `${topic.name}_${way}${shaped ? '_shaped' : ''}`.replaceAll('.', '_');

async function connector(demo: Demo, connection: string, topic: Topic, way: Way, shaped: boolean) {
  const table = tableOf(topic, way, shaped);
  const key = way === 'current' || way === 'history' ? ['id'] : ['p', 'o'];
  const columns = [...topic.columns, ...FACTS.map((fact) => ({ ...fact, key: key.includes(fact.name) }))];
  const definition = {
    kind: 'sink',
    connection,
    topics: [{ topic: topic.name, schema: 'public', table, rows: { columns } }],
    writes: { rows: way, deletes: key.includes('id') ? 'applied' : 'ignored' },
    failing: { most_in_a_row: 1_000, most_a_minute: 1_000_000 },
    ...(shaped ? { shape: { steps: { [topic.name]: [{ step: 'compute', ...topic.step }] } } } : {}),
  };
  const made = (await call(demo, 'POST', '/connectors', { name: table, start: true, definition })) as { id: string };
  return made.id;
}

/** What a table holds, each row in canonical form with its key. */
function found(demo: Demo, topic: Topic, way: Way, shaped: boolean, where = ''): string[] {
  const table = tableOf(topic, way, shaped);
  const step = shaped ? 'twice' : 'NULL';
  const rows = `SELECT coalesce(json_agg(json_build_array(id, ${topic.shown}, ${step})), '[]') FROM ${table} ${where}`;
  const all = JSON.parse(demo.sql('settlement', rows)) as [string, unknown, unknown][];
  return all
    .map(([key, row, twice]) => {
      const shown = topic.name.startsWith('form.') && typeof row === 'object' && row !== null && 'small' in row;
      const text = shown
        ? canonical(row as Record<string, unknown>)
        : typeof row === 'string'
          ? row
          : JSON.stringify(row);
      return `${key}: ${text}${shaped ? ` | ${String(twice)}` : ''}`;
    })
    .sort();
}

function expected(topic: Topic, way: Way, shaped: boolean): string[] {
  const line = ({ key, row }: Came) => `${key}: ${shaped ? row : row?.replace(/ \| [^|]*$/, '')}`;
  const good = topic.came.filter((came) => came.gone || came.row !== null);
  if (way !== 'current')
    return good
      .filter((came) => !came.gone)
      .map(line)
      .sort();
  const last = new Map(good.map((came) => [came.key, came]));
  return [...last.values()]
    .filter((came) => !came.gone)
    .map(line)
    .sort();
}

test('every form, in every way of writing, with and without a shape, is what other libraries read, through kills', async ({
  demo,
}) => {
  test.setTimeout(600_000 + COUNT * 120);
  const connection = (await call(demo, 'POST', '/connections', {
    name: 'settlement',
    host: '127.0.0.1',
    port: demo.pgPort,
    database: 'settlement',
    user: 'gonvel',
    password: demo.password,
  })) as { id: string };
  const topics: Topic[] = [];
  for (const [number, form] of FORMS.entries()) topics.push(await ofForm(demo, form, number));
  topics.push(await ofEvents(demo));
  for (const kind of ['text', 'bytea', 'jsonb'] as const) topics.push(await whole(demo, kind));
  const cells = topics.flatMap((topic) =>
    WAYS.flatMap((way) => (way === 'changes' ? [false] : [false, true]).map((shaped) => ({ topic, way, shaped }))),
  );
  for (const topic of topics) await topic.append(0);
  const ids = new Map<string, string>();
  for (const { topic, way, shaped } of cells)
    ids.set(tableOf(topic, way, shaped), await connector(demo, connection.id, topic, way, shaped));
  for (let part = 1; part < PARTS; part += 1) {
    for (const topic of topics) await topic.append(part);
    if (part % 2 === 1) {
      await demo.kill();
      await demo.launch(['--empty']);
    }
  }
  for (const { topic, way, shaped } of cells) {
    const table = tableOf(topic, way, shaped);
    if (way === 'changes') {
      const good = topic.came.filter((came) => came.row !== null).length;
      const changes = `SELECT count(*), count(DISTINCT (new->>'p', new->>'o')) FROM ${table} WHERE new IS NOT NULL`;
      await expect.poll(() => demo.asked('settlement', changes), { message: table }).toBe(`${good}|${good}`);
    } else {
      const wanted = expected(topic, way, shaped);
      await expect.poll(() => found(demo, topic, way, shaped).length, { message: table }).toBe(wanted.length);
      await expect.poll(() => found(demo, topic, way, shaped), { message: table }).toEqual(wanted);
      if (way === 'history')
        expect(found(demo, topic, way, shaped, 'WHERE valid_to IS NULL'), table).toEqual(
          expected(topic, 'current', shaped),
        );
    }
    // the wrong ones wait, where no newer record of their row came, and nothing else does
    const kept = `SELECT count(*) FROM quarantine WHERE connector_id = '${ids.get(table) ?? ''}' AND state IN ('waiting', 'superseded')`;
    const wrong = topic.came.filter((came) => !came.gone && came.row === null).length;
    await expect.poll(() => demo.asked('gonvel', kept), { message: table }).toBe(String(wrong));
  }
});
