/** Readings in every form of value, and what other libraries read of the bytes of each. */
import { Ajv } from 'ajv';
import avro from 'avsc';
import bigJson from 'json-bigint';
import protobuf from 'protobufjs';

/** Numbers that are the same in each run. */
export function dice(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    return state / 2 ** 32;
  };
}

/** A reading as it was meant. */
export interface Meant {
  key: string;
  /** It says that its key is gone. */
  gone: boolean;
  /** What no column takes, if anything. */
  wrong: 'range' | 'date' | 'missing' | null;
  fields: Record<string, unknown>;
}

const TEXTS = ['', 'null', 'Tür "B"\n\t\\N', '🍎 apple', 'a,b;{c}', "o'clock", 'x'.repeat(300)];
const LONGS = [0n, -1n, 9_223_372_036_854_775_807n, -9_223_372_036_854_775_808n, 9_007_199_254_740_993n];
const DOUBLES = [0, -1.5, 1.7976931348623157e308, 5e-324, 0.1, 1e21, 123456789.125];
const WHOLES = [0, -2_147_483_648, 2_147_483_647, 7];
const pick = <T>(random: () => number, from: readonly T[]): T => from[Math.floor(random() * from.length)] as T;

/** The time of the first reading. */
export const FIRST_AT = 1_790_000_000_000;

/** So many readings of so many keys, with the edges of every type, nulls, missing and unknown fields, and wrong ones. */
export function meant(seed: number, count: number, keys: number): Meant[] {
  const random = dice(seed);
  const often = (share: number) => random() < share;
  return Array.from({ length: count }, (_, n) => {
    const fields: Record<string, unknown> = {
      n: often(0.1) ? pick(random, LONGS) : BigInt(n),
      small: often(0.2) ? pick(random, WHOLES) : Math.floor(random() * 1_000),
      ratio: often(0.2) ? pick(random, DOUBLES) : random() * 100,
      day: `20${String(10 + (n % 80))}-0${1 + (n % 9)}-1${n % 10}`,
      at: FIRST_AT + n * 977,
    };
    if (!often(0.1)) fields.open = often(0.2) ? null : often(0.5);
    if (!often(0.1)) fields.kg = often(0.2) ? null : Math.floor((random() - 0.5) * 2e12) / 1_000;
    if (!often(0.1)) fields.note = often(0.2) ? null : pick(random, TEXTS);
    if (!often(0.3)) fields.door = { mm: often(0.2) ? null : Math.floor(random() * 400) / 4 };
    const wrong = often(1 / 40) ? pick(random, ['range', 'date', 'missing'] as const) : null;
    if (wrong === 'range') fields.small = 3_000_000_000;
    if (wrong === 'date') fields.day = 'yesterday';
    if (wrong === 'missing') delete fields.n;
    if (often(0.1)) fields.unknown = { a: [n] };
    return { key: `room-${Math.floor(random() * keys)}`, gone: !wrong && often(1 / 20), wrong, fields };
  });
}

const numbers = bigJson({ useNativeBigInt: true });
/** Numbers of many digits come as the text that they are. */
const digits = bigJson({ storeAsString: true });

/** A form of value: how a reading is written, and what an independent library reads. */
export interface Form {
  name: string;
  language?: 'avro' | 'json_schema' | 'protobuf';
  /** The texts of its schema, version by version. */
  schemas: string[];
  /** Writes a value under the version that is in force. */
  write: (fields: Record<string, unknown>, version: number) => Buffer;
  /** What a record's value is, by a library that nobody here wrote. */
  read: (value: Buffer, version: number) => Record<string, unknown>;
}

const inJson = (fields: Record<string, unknown>) =>
  Buffer.from(numbers.stringify({ ...fields, at: new Date(fields.at as number).toISOString() }));
const ofJson = (value: Buffer) => {
  const fields = digits.parse(value.toString()) as Record<string, unknown>;
  return { ...fields, at: new Date(fields.at as string).getTime() };
};

const jsonSchema = (more: object) =>
  JSON.stringify({
    type: 'object',
    properties: {
      n: { type: 'integer' },
      small: { type: 'integer' },
      day: { type: 'string' },
      open: { type: ['boolean', 'null'] },
      ...more,
    },
    required: ['small', 'day'],
  });
const JSON_SCHEMAS = [jsonSchema({}), jsonSchema({ note: { type: ['string', 'null'] } })];
const judges = JSON_SCHEMAS.map((text) => new Ajv({ strict: false }).compile(JSON.parse(text) as object));

const nullable = (type: unknown) => ['null', type];
const avroFields = [
  { name: 'n', type: nullable('long'), default: null },
  { name: 'small', type: 'long' },
  { name: 'ratio', type: 'double' },
  { name: 'day', type: 'string' },
  { name: 'at', type: { type: 'long', logicalType: 'timestamp-millis' } },
  { name: 'open', type: nullable('boolean'), default: null },
  { name: 'kg', type: nullable({ type: 'bytes', logicalType: 'decimal', precision: 12, scale: 3 }), default: null },
  {
    name: 'door',
    type: nullable({ type: 'record', name: 'Door', fields: [{ name: 'mm', type: nullable('float') }] }),
    default: null,
  },
];
const avroSchema = (fields: object[]) => JSON.stringify({ type: 'record', name: 'Reading', fields });
const AVRO_SCHEMAS = [
  avroSchema(avroFields),
  avroSchema([...avroFields, { name: 'note', type: nullable('string'), default: null }]),
];
const longs = avro.types.LongType.__with({
  fromBuffer: (buffer: Buffer) => buffer.readBigInt64LE(),
  toBuffer: (value: bigint) => {
    const buffer = Buffer.alloc(8);
    buffer.writeBigInt64LE(value);
    return buffer;
  },
  fromJSON: BigInt,
  toJSON: Number,
  isValid: (value: unknown) => typeof value === 'bigint',
  compare: (a: bigint, b: bigint) => Number(a - b),
});
const avroTypes = AVRO_SCHEMAS.map((text) =>
  avro.Type.forSchema(JSON.parse(text) as avro.Schema, { wrapUnions: false, registry: { long: longs } }),
);

/** A whole number in as many bytes as it needs, the first the greatest. */
function twosComplement(value: bigint): Buffer {
  const bytes: number[] = [];
  let rest = value;
  do {
    bytes.unshift(Number(rest & 0xffn));
    rest >>= 8n;
  } while (!((rest === 0n && (bytes[0] ?? 0) < 128) || (rest === -1n && (bytes[0] ?? 0) >= 128)));
  return Buffer.from(bytes);
}
const ofTwosComplement = (bytes: Buffer) => BigInt.asIntN(8 * bytes.length, BigInt(`0x${bytes.toString('hex')}`));

/** CRC-64-AVRO, as the specification writes it. */
const EMPTY = 0xc15d213aa4d7a795n;
const TABLE = Array.from({ length: 256 }, (_, n) => {
  let value = BigInt(n);
  for (let bit = 0; bit < 8; bit += 1) value = (value >> 1n) ^ (value & 1n ? EMPTY : 0n);
  return value;
});
function fingerprint(type: avro.Type): Buffer {
  let value = EMPTY;
  // the parsing form: the schema without what says nothing of how values are written
  for (const byte of Buffer.from(parsingForm(JSON.parse(JSON.stringify(type.schema({ noDeref: false }))))))
    value = (value >> 8n) ^ (TABLE[Number((value ^ BigInt(byte)) & 0xffn)] ?? 0n);
  const buffer = Buffer.alloc(8);
  buffer.writeBigUInt64LE(value);
  return buffer;
}
function parsingForm(schema: unknown): string {
  if (typeof schema === 'string') return JSON.stringify(schema);
  if (Array.isArray(schema)) return `[${schema.map(parsingForm).join(',')}]`;
  const { name, type, fields } = schema as { name?: string; type: unknown; fields?: { name: string; type: unknown }[] };
  if (type === 'record') {
    const all = (fields ?? []).map((f) => `{"name":${JSON.stringify(f.name)},"type":${parsingForm(f.type)}}`);
    return `{"name":${JSON.stringify(name)},"type":"record","fields":[${all.join(',')}]}`;
  }
  return parsingForm(type);
}
const MARK = Buffer.from([0xc3, 0x01]);

const proto = (more: string) => `syntax = "proto3";
message Reading { optional int64 n = 1; int64 small = 2; double ratio = 3; string day = 4; int64 at = 5; optional bool open = 6;
  optional string kg = 7; Door door = 8; ${more} message Door { optional float mm = 1; } }`;
const PROTOS = [proto(''), proto('optional string note = 9;')];
const Longs = protobuf.util.Long as unknown as { fromString: (text: string) => unknown };
const messages = PROTOS.map((text) => protobuf.parse(text, { keepCase: true }).root.lookupType('Reading'));
const withoutNulls = (fields: Record<string, unknown>) =>
  Object.fromEntries(Object.entries(fields).filter(([, value]) => value !== null && value !== undefined));

export const FORMS: Form[] = [
  { name: 'json', schemas: [], write: inJson, read: ofJson },
  {
    name: 'json.schema',
    language: 'json_schema',
    schemas: JSON_SCHEMAS,
    write: inJson,
    read: (value, version) => {
      if (!judges[version]?.(JSON.parse(value.toString()))) throw new Error(`not by its schema: ${value.toString()}`);
      return ofJson(value);
    },
  },
  {
    name: 'avro',
    language: 'avro',
    schemas: AVRO_SCHEMAS,
    write: (fields, version) => {
      const type = avroTypes[version];
      if (!type) throw new Error('there is no such version');
      const kg = fields.kg == null ? null : twosComplement(BigInt(Math.round((fields.kg as number) * 1_000)));
      const { n = null, open = null, note = null, door = null } = fields;

      const value = { ...fields, n, open, note, door, kg, small: BigInt(fields.small as number) };
      return Buffer.concat([MARK, fingerprint(type), type.toBuffer(value)]);
    },
    read: (value, version) => {
      const read = avroTypes[version]?.fromBuffer(value.subarray(10)) as Record<string, unknown>;
      const kg = read.kg === null ? null : Number(ofTwosComplement(read.kg as Buffer)) / 1_000;
      return { ...read, kg, at: Number(read.at) };
    },
  },
  {
    name: 'protobuf',
    language: 'protobuf',
    schemas: PROTOS,
    write: (fields, version) => {
      const long = (value: unknown) => Longs.fromString(String(value));
      const some: Record<string, unknown> = withoutNulls(fields);
      if (some.n !== undefined) some.n = long(some.n);
      if (some.kg !== undefined) some.kg = (some.kg as number).toFixed(3);
      if (some.door) some.door = withoutNulls(some.door as Record<string, unknown>);
      const message = messages[version];
      const value = { ...some, small: long(some.small), at: long(some.at) };
      return Buffer.from(message?.encode(message.create(value)).finish() ?? []);
    },
    read: (value, version) => {
      const message = messages[version];
      const read = message?.toObject(message.decode(value), { longs: String, defaults: false }) as Record<
        string,
        unknown
      >;
      const n = read.n === undefined ? undefined : BigInt(read.n as string);
      // what was not sent and has no presence is what it is by default
      const { ratio = 0, day = '' } = read;
      return {
        ...read,
        n,
        ratio,
        day,
        small: BigInt((read.small as string | undefined) ?? 0),
        at: Number(read.at),
        kg: read.kg,
      };
    },
  },
];

/** A row in a form that two of them are the same in if they hold the same. */
export function canonical(row: Record<string, unknown>): string {
  const some = (value: unknown, as: (value: unknown) => string) =>
    value === null || value === undefined ? '∅' : as(value);
  const door = row.door as { mm?: number | null } | null | undefined;
  return [
    some(row.n, String),
    some(row.small, String),
    some(row.ratio, (value) => String(Number(value))),
    some(row.day, String),
    some(row.at, (value) => String(Number(value))),
    some(row.open, String),
    some(row.kg, (value) => Number(value).toFixed(3)),
    some(row.note, (value) => JSON.stringify(value)),
    some(door?.mm, (value) => String(Number(value))),
  ].join(' | ');
}
