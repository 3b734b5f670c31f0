/** How events become rows: columns, what identifies a row, what becomes of fields without a column. */
import type { Schemas } from '../../api/client';

export type EventRows = Schemas['EventRows'];
export type EventColumn = Schemas['EventColumn'];
type Part = Schemas['Part'];

/** What says which row a record is of. */
export type Identity = 'place' | 'key' | 'columns';
/** What becomes of fields without a column. */
export type Others = 'leave_out' | 'rest' | 'add_column' | 'quarantine';

/** Types offered; others can be written. */
export const TYPES = [
  'text',
  'bigint',
  'integer',
  'smallint',
  'numeric(12,3)',
  'double precision',
  'real',
  'boolean',
  'timestamp with time zone',
  'timestamp without time zone',
  'date',
  'time without time zone',
  'uuid',
  'jsonb',
  'bytea',
  'text[]',
];

export const partOf = (column: EventColumn): Part => column.part ?? 'field';
const samePath = (a: readonly string[] = [], b: readonly string[] = []) =>
  a.length === b.length && a.every((name, n) => name === b[n]);

/** What fills a column, in words. */
export function filledFrom(column: EventColumn): string {
  switch (partOf(column)) {
    case 'field':
      return (column.path ?? []).join(' › ');
    case 'header':
      return `header ${column.path?.[0] ?? ''}`;
    case 'value':
      return 'the whole value';
    case 'key':
      return 'the record’s key';
    case 'time':
      return 'the record’s time';
    case 'partition':
      return 'its partition';
    case 'offset':
      return 'its offset';
    case 'rest':
      return 'all other fields';
    case 'element':
      return ['each element', ...(column.path ?? [])].join(' › ');
    case 'place':
      return 'the element’s place';
  }
}

/** What stands in a path for any element of an array. */
const ELEMENT = '[]';

/** Whether a field stands in the elements of an array. */
export const inElements = (path: readonly string[]) => path.includes(ELEMENT);

/** Arrays whose elements may become rows. */
export const arraysIn = (fields: readonly Schemas['SeenField'][]): string[][] =>
  fields.filter((f) => !inElements(f.path) && f.types.some((t) => t.what === 'array')).map((f) => f.path);

/** Fields of the elements of the array that is expanded, by their paths in an element. */
export function elementFields(rows: EventRows, fields: readonly Schemas['SeenField'][]): Schemas['SeenField'][] {
  const expand = rows.expand;
  if (!expand) return [];
  const within = fields.filter((f) => samePath(f.path.slice(0, expand.length + 1), [...expand, ELEMENT]));
  return within.map((f) => ({ ...f, path: f.path.slice(expand.length + 1) }));
}

/** The rows with a row for each element of an array, or for each record; with columns for what its elements hold. */
export function withExpand(rows: EventRows, path: string[] | null, fields: readonly Schemas['SeenField'][]): EventRows {
  const plain = { ...rows };
  delete plain.expand;
  const kept = plain.columns.filter((c) => !['element', 'place'].includes(partOf(c)));
  if (path === null) return withIdentity({ ...plain, columns: kept }, 'place');
  // the array itself is in its rows now
  const others = kept.filter((c) => partOf(c) !== 'field' || !samePath(c.path?.slice(0, path.length), path));
  let next: EventRows = { ...plain, columns: others, expand: path };
  const held = elementFields(next, fields).filter((f) => f.type);
  for (const field of held.length > 1 ? held.filter((f) => f.path.length > 0) : held) {
    const name = freeName(next.columns, field.path.join('_') || 'element');
    const column: EventColumn = { name, type: field.type ?? 'jsonb', part: 'element', path: field.path };
    next = { ...next, columns: [...next.columns, column] };
  }
  return withIdentity(withPart(next, 'place'), 'place');
}

export function identityOf(rows: EventRows): Identity {
  const key = rows.columns.filter((c) => c.key).map(partOf);
  const each = key.includes('partition') && key.includes('offset');
  if (each && key.length === (rows.expand ? 3 : 2) && (!rows.expand || key.includes('place'))) return 'place';
  return key.length === 1 && key[0] === 'key' ? 'key' : 'columns';
}

/** A name that no other column has. */
function freeName(columns: readonly EventColumn[], wanted: string): string {
  const plain = wanted.toLowerCase().replace(/[^a-z0-9_]/g, '_');
  let name = plain;
  for (let number = 2; columns.some((c) => c.name === name); number += 1) name = `${plain}_${number}`;
  return name;
}

const FACTS: Partial<Record<Part, { name: string; type: string }>> = {
  key: { name: 'record_key', type: 'text' },
  time: { name: 'record_time', type: 'timestamp with time zone' },
  partition: { name: 'record_partition', type: 'integer' },
  offset: { name: 'record_offset', type: 'bigint' },
  rest: { name: 'other_fields', type: 'jsonb' },
  value: { name: 'value', type: 'jsonb' },
  place: { name: 'place', type: 'integer' },
};

/** The rows with a column for a part of the record, if there is none yet. */
export function withPart(rows: EventRows, part: Part): EventRows {
  const fact = FACTS[part];
  if (!fact || rows.columns.some((c) => partOf(c) === part)) return rows;
  const column = { name: freeName(rows.columns, fact.name), type: fact.type, part };
  return { ...rows, columns: [...rows.columns, column] };
}

/** The rows with a column for a field or a header. */
export function withField(
  rows: EventRows,
  part: 'field' | 'header' | 'element',
  path: string[],
  type: string,
): EventRows {
  const name = freeName(rows.columns, path.join('_') || 'element');
  const column: EventColumn = part === 'field' ? { name, type, path } : { name, type, part, path };
  return { ...rows, columns: [...rows.columns, column] };
}

/** Whether a field fills a column. */
export const taken = (rows: EventRows, part: Part, path: readonly string[]): boolean =>
  rows.columns.some((c) => partOf(c) === part && samePath(c.path, path));

/** The rows with another identity: of chosen columns, those that are marked stay, as far as fields are among them. */
export function withIdentity(rows: EventRows, identity: Identity): EventRows {
  const place: Part[] = rows.expand ? ['partition', 'offset', 'place'] : ['partition', 'offset'];
  const parts: Part[] = identity === 'place' ? place : identity === 'key' ? ['key'] : [];
  const all = parts.reduce(withPart, rows);
  const first = all.columns.findIndex((c) => partOf(c) === 'field');
  const columns = all.columns.map(({ key, ...column }, n): EventColumn => {
    const isKey =
      identity === 'columns'
        ? (key === true && partOf(column) === 'field') || n === first
        : parts.includes(partOf(column));
    return isKey ? { ...column, key: true } : column;
  });
  const { newest_by, ...without } = all;
  // where each record is a row of its own there is no newest
  return newest_by && identity !== 'place' ? { ...without, newest_by, columns } : { ...without, columns };
}

export function othersOf(rows: EventRows): Others {
  if (rows.columns.some((c) => partOf(c) === 'rest')) return 'rest';
  return rows.unknown ?? 'leave_out';
}

/** The rows with the column by which the newest is found; null for the order of the topic. */
export function withNewestBy(rows: EventRows, by: string | null): EventRows {
  const next = { ...rows };
  if (by === null) delete next.newest_by;
  else next.newest_by = by;
  return next;
}

export function withOthers(rows: EventRows, others: Others): EventRows {
  const next = { ...rows, columns: rows.columns.filter((c) => partOf(c) !== 'rest') };
  delete next.unknown;
  if (others === 'rest') return withPart(next, 'rest');
  return others === 'leave_out' ? next : { ...next, unknown: others };
}

/** The rows with one column changed, or taken out. */
export function withColumn(rows: EventRows, place: number, set: Partial<EventColumn> | null): EventRows {
  const was = rows.columns[place];
  if (!was) return rows;
  const columns =
    set === null
      ? rows.columns.filter((_, n) => n !== place)
      : rows.columns.map((c, n) => (n === place ? { ...c, ...set } : c));
  const { newest_by, ...without } = rows;
  if (newest_by !== was.name) return { ...rows, columns };
  // what the newest is found by keeps to its column
  return set === null ? { ...without, columns } : { ...rows, columns, newest_by: set.name ?? newest_by };
}

/** In a line: how many columns, and what a record is. */
export function summary(rows: EventRows): string {
  const columns = rows.columns.length === 1 ? '1 column' : `${rows.columns.length} columns`;
  const key = rows.columns.filter((c) => c.key).map((c) => c.name);
  const identity = identityOf(rows);
  if (rows.expand) return `${columns} · a row for each of ${rows.expand.join(' › ')}`;
  if (identity === 'place') return `${columns} · each record a row`;
  return `${columns} · the newest of each ${identity === 'key' ? 'key' : key.join(', ')}`;
}

/** What was seen of a field, in words. */
export function seen(field: Schemas['SeenField'] | undefined, records: number): string {
  if (!field) return '';
  const types = field.types.map((t) => (field.types.length === 1 ? t.what : `${t.what} ${t.records}`)).join(', ');
  const percent = Math.floor((100 * field.present) / Math.max(records, 1));
  const times = field.present === 1 ? '1 time' : `${field.present} times`;
  const often = field.present === records ? 'always' : percent === 0 ? times : `in ${percent} %`;
  return [field.present === 0 ? 'never yet' : often, types, field.null > 0 && `null ${field.null}`]
    .filter(Boolean)
    .join(' · ');
}
