/** What the builder gathers, as one value that every step of the page changes through {@link reduce}. */
import type { Schemas } from '../../api/client';
import { NOTHING, withRules, withSteps, type Shapes } from '../../shared/shape/shape';
import { covers, keyOf } from '../../shared/tables';
import type { EventRows } from './eventRows';
import { ofTopic, topicOf } from './types';

export interface SystemChoice {
  id: string;
  name: string;
  /** The schema that its tables usually are in, which says nothing. */
  usual_schema?: string | null;
}

export interface TableChoice {
  schema: string;
  table: string;
}

/** A chosen table, with what of it is captured. */
export interface CapturedChoice extends TableChoice {
  topic: string;
  /** Columns that are left out. */
  leaveOut: string[];
  /** Columns that are the key, where it is not the primary key. */
  key: string[];
  /** A condition on the rows that are loaded; empty for all. */
  loadWhere: string;
}

export type Start = Schemas['Start'];

interface Common {
  name: string;
  /** Whether a person gave the name; until then it follows the system's. */
  named: boolean;
  system: SystemChoice | null;
  /** Where it begins; null for the usual place. */
  start: Start | null;
  /** What happens to rows on their way. */
  shape: Shapes;
  /** Where it may run. */
  placing: Schemas['Placing'];
  /** What happens when something fails. */
  failing: Schemas['Failing'];
}

export interface SourceDraft extends Common {
  kind: 'source';
  /** The chosen tables, by `schema.table`. */
  tables: Record<string, CapturedChoice>;
  /** Patterns of tables that are captured because of their names, one a line or between commas. */
  include: string;
  exclude: string;
  /** How topics are named after their tables: `{system}.{schema}.{table}` and the like. */
  template: string;
  partitions: number;
  load: Schemas['InitialLoad'];
  /** What becomes of rows that are in the topics already; null while that is not said. */
  existingRows: Schemas['ExistingRows'] | null;
  values: Schemas['Values'];
  /** The topic for changes of the tables' columns; empty where they are not told. */
  schemaChanges: string;
}

export interface SinkDraft extends Common {
  kind: 'sink';
  /** Tables of the chosen topics, by topic. */
  topics: Record<string, TableChoice>;
  /** How records of topics become rows that are events and no changes, by topic. */
  rows: Record<string, EventRows>;
  writes: Schemas['Writes'];
  /** What becomes of rows that are in the tables already; null while that is not said. */
  existingRows: Schemas['ExistingRows'] | null;
}

export interface TopicsDraft extends Common {
  kind: 'topics';
  /** Where the rows of the chosen topics go, by topic. */
  carries: Record<string, string>;
  /** How records of topics become rows that are events and no changes, by topic. */
  rows: Record<string, EventRows>;
  /** The registered schemas that rows are written under, by the topic that is read. */
  fits: Record<string, Schemas['Fit']>;
  partitions: number;
  values: Schemas['Values'];
}

export type Draft = SourceDraft | SinkDraft | TopicsDraft;

export type Action =
  | { type: 'replace'; draft: Draft }
  | { type: 'system'; system: SystemChoice | null; taken?: readonly string[] }
  | { type: 'name'; name: string }
  | { type: 'start'; start: Start | null }
  | { type: 'shape'; shape: Shapes }
  | { type: 'placing'; set: Partial<Schemas['Placing']> }
  | { type: 'failing'; set: Partial<Schemas['Failing']> }
  | { type: 'table'; table: TableChoice; chosen: boolean }
  | { type: 'ofTable'; table: string; set: Partial<Omit<CapturedChoice, 'schema' | 'table'>> }
  | { type: 'ofSource'; set: Partial<Pick<SourceDraft, 'include' | 'exclude' | 'partitions' | 'schemaChanges'>> }
  | { type: 'template'; template: string }
  | { type: 'load'; set: Partial<Schemas['InitialLoad']> }
  | { type: 'existing'; rows: Schemas['ExistingRows'] }
  | { type: 'values'; set: Partial<Schemas['Values']> }
  | { type: 'topic'; topic: string; chosen: boolean }
  | { type: 'carriedTo'; topic: string; to: string }
  | { type: 'fit'; topic: string; fit: Schemas['Fit'] | null }
  | { type: 'partitions'; partitions: number }
  | { type: 'tableOf'; topic: string; table: TableChoice }
  | { type: 'rows'; topic: string; rows: EventRows }
  | { type: 'types'; topic: string; parts: { name: string; after: string; rows: EventRows }[] }
  | { type: 'writes'; set: Partial<Schemas['Writes']> };

export const LOAD: Schemas['InitialLoad'] = { rows: true, chunks: 1 };
export const VALUES: Schemas['Values'] = { form: 'change', encoding: 'avro' };
export const WRITES: Schemas['Writes'] = {
  rows: 'current',
  deletes: 'applied',
  columns: 'add',
  whole_transactions: false,
  guarantee: 'exactly_once',
};

/** One lane alone keeps transactions whole; several keep step by positions in the target. */
export function oneLane(writes: Schemas['Writes']): boolean {
  return writes.whole_transactions === true || (writes.guarantee ?? 'exactly_once') !== 'exactly_once';
}

export const PLACING: Required<Schemas['Placing']> = { only_where: {}, weight: 1, lanes: 1 };
export const FAILING = {
  records: 'quarantine',
  most_in_a_row: 100,
  most_a_minute: 1_000,
  kept_days: 30,
} as const satisfies Schemas['Failing'];

/** What is wrong with labels, written as `name=value`; nothing if they can be. */
export function badLabel(labels: readonly string[]): string | undefined {
  const wrong = labels.find((label) => !/^[A-Za-z0-9._-]{1,60}=[A-Za-z0-9._-]{1,60}$/.test(label));
  return wrong === undefined ? undefined : `${wrong} is no label: write it as site=packhouse`;
}

export function begin(kind: Draft['kind'], topics: string[] = []): Draft {
  const common = {
    name: '',
    named: false,
    system: null,
    start: null,
    shape: NOTHING,
    placing: PLACING,
    failing: FAILING,
  };
  if (kind === 'source') {
    const names = { include: '', exclude: '', template: TEMPLATE, schemaChanges: '' };
    return { ...common, ...names, kind, tables: {}, partitions: 3, load: LOAD, existingRows: null, values: VALUES };
  }
  if (kind === 'topics') {
    const carries = Object.fromEntries(topics.map((t) => [t, richTopic(t)]));
    return { ...common, kind, carries, rows: {}, fits: {}, partitions: 3, values: VALUES };
  }
  const tables = Object.fromEntries(topics.map((t) => [t, targetTable(t, null)]));
  return { ...common, kind, topics: tables, rows: {}, writes: WRITES, existingRows: null };
}

/** How topics are named if nothing else is said. */
export const TEMPLATE = '{system}.{schema}.{table}';

/** A table as people call it: the schema that tables usually are in says nothing. */
export function shownTable(table: TableChoice, system: SystemChoice | null): string {
  return table.schema === system?.usual_schema ? table.table : keyOf(table);
}

/**
 * A topic for a table by a template, in characters that names may hold. The system's usual schema says nothing, so where
 * it stands with a dot it is left out.
 */
export function topicFor(
  { name: system, usual_schema }: SystemChoice,
  { schema, table }: TableChoice,
  template = TEMPLATE,
): string {
  const short =
    schema === usual_schema || schema === '' ? template.replace('{schema}.', '').replace('.{schema}', '') : template;
  const parts: Record<string, string> = { system, schema, table };
  return short
    .replace(/\{(system|schema|table)\}/g, (_, part: string) => parts[part] ?? '')
    .replace(/[^A-Za-z0-9._-]/g, '-');
}

/** A topic for another one’s shaped rows. */
export function richTopic(topic: string): string {
  return `shaped.${topic.split('.').pop() ?? topic}`;
}

/** A target table for a topic: its last part, in the schema that the system's tables usually are in. */
export function targetTable(topic: string, system: SystemChoice | null): TableChoice {
  const last = topic.split('.').pop() ?? topic;
  return { schema: system?.usual_schema ?? '', table: last.replace(/[^A-Za-z0-9_]/g, '_').toLowerCase() };
}

/** Patterns as they were typed: between commas, spaces or on lines of their own. */
export function patternsIn(text: string): string[] {
  return text.split(/[\s,]+/).filter(Boolean);
}

/** Whether a table is captured because of its name. */
export function found(draft: Pick<SourceDraft, 'include' | 'exclude'>, table: TableChoice): boolean {
  const fits = (text: string) => patternsIn(text).some((pattern) => covers(pattern, table));
  return fits(draft.include) && !fits(draft.exclude);
}

function without<T>(all: Record<string, T>, key: string): Record<string, T> {
  return Object.fromEntries(Object.entries(all).filter(([name]) => name !== key));
}

function nameFor(kind: Draft['kind'], system: string): string {
  return kind === 'source' ? `${system}-changes` : `${system}-tables`;
}

/** What goes, with all that was said of it. */
function withoutRead<D extends SinkDraft | TopicsDraft>(draft: D, names: readonly string[]): D {
  const others = <T>(all: Record<string, T>) => names.reduce(without, all) as Record<string, T>;
  const shape = names.reduce((kept, name) => withSteps(kept, name, []), draft.shape);
  const next = { ...draft, rows: others(draft.rows), shape };
  if (next.kind === 'topics') return { ...next, carries: others(next.carries), fits: others(next.fits) };
  return { ...next, topics: others(next.topics) };
}

/** What is read, going to a table or topic that is named after something and that nothing else goes to. */
function withRead<D extends SinkDraft | TopicsDraft>(draft: D, name: string, after: string): D {
  if (draft.kind === 'topics')
    return {
      ...draft,
      carries: { ...draft.carries, [name]: freeName(richTopic(after), Object.values(draft.carries)) },
    };
  const wanted = targetTable(after, draft.system);
  const there = Object.values(draft.topics).filter((t) => t.schema === wanted.schema);
  const table = freeName(
    wanted.table,
    there.map((t) => t.table),
  ).replace(/-(\d+)$/, '_$1');
  return { ...draft, topics: { ...draft.topics, [name]: { ...wanted, table } } };
}

/** A topic read in parts, or as a whole again where there are none: what was said of a part that stays is kept. */
function withTypes<D extends SinkDraft | TopicsDraft>(
  draft: D,
  topic: string,
  parts: readonly { name: string; after: string; rows: EventRows }[],
): D {
  const before = ofTopic(Object.keys(draft.kind === 'topics' ? draft.carries : draft.topics), topic);
  const gone = before.filter((name) => !parts.some((part) => part.name === name));
  const come = parts.filter((part) => !before.includes(part.name));
  const named = come.reduce((next, part) => withRead(next, part.name, part.after), withoutRead(draft, gone));
  if (parts.length === 0) return withRead(named, topic, topic);
  const rows = Object.fromEntries(come.map((part) => [part.name, part.rows]));
  const next = { ...named, rows: { ...named.rows, ...rows } };
  if (next.kind !== 'topics' || Object.keys(draft.rows).length > 0) return next;
  return { ...next, values: { ...next.values, form: 'row' } };
}

/** The name, or the first with a number behind it that no one has. */
function freeName(name: string, taken: readonly string[]): string {
  if (!taken.includes(name)) return name;
  let number = 2;
  while (taken.includes(`${name}-${number}`)) number += 1;
  return `${name}-${number}`;
}

export function reduce(draft: Draft, action: Action): Draft {
  switch (action.type) {
    case 'replace':
      return action.draft;
    case 'system': {
      const free = action.system ? freeName(nameFor(draft.kind, action.system.name), action.taken ?? []) : '';
      const name = draft.named ? draft.name : free;
      // another system has other tables
      if (draft.kind === 'source')
        return { ...draft, system: action.system, name, tables: {}, shape: withRules({}, draft.shape.rules ?? []) };
      if (draft.kind === 'topics') return { ...draft, system: action.system, name };
      // a table in the usual schema is in that of the other system
      const [was, is] = [draft.system, action.system].map((system) => system?.usual_schema ?? '');
      const moved = (table: TableChoice) => (table.schema === was ? { ...table, schema: is ?? '' } : table);
      const topics = Object.fromEntries(Object.entries(draft.topics).map(([topic, table]) => [topic, moved(table)]));
      return { ...draft, system: action.system, name, topics };
    }
    case 'name':
      return { ...draft, name: action.name, named: action.name !== '' };
    case 'start':
      return { ...draft, start: action.start };
    case 'existing':
      return draft.kind === 'topics' ? draft : { ...draft, existingRows: action.rows };
    case 'shape':
      return { ...draft, shape: action.shape };
    case 'placing':
      return { ...draft, placing: { ...draft.placing, ...action.set } };
    case 'failing':
      return { ...draft, failing: { ...draft.failing, ...action.set } };
    case 'tableOf':
      return draft.kind === 'sink' ? { ...draft, topics: { ...draft.topics, [action.topic]: action.table } } : draft;
    case 'rows': {
      if (draft.kind === 'source') return draft;
      const rows = { ...draft.rows, [action.topic]: action.rows };
      if (draft.kind === 'sink') return { ...draft, rows };
      // an event has no earlier row that a whole change would hold
      const first = Object.keys(draft.rows).length === 0;
      return { ...draft, rows, values: first ? { ...draft.values, form: 'row' } : draft.values };
    }
    case 'types':
      return draft.kind === 'source' ? draft : withTypes(draft, action.topic, action.parts);
    case 'carriedTo':
      if (draft.kind !== 'topics') return draft;
      return { ...draft, carries: { ...draft.carries, [action.topic]: action.to } };
    case 'fit': {
      if (draft.kind !== 'topics') return draft;
      const fits = without(draft.fits, action.topic);
      return { ...draft, fits: action.fit ? { ...fits, [action.topic]: action.fit } : fits };
    }
    case 'partitions':
      return draft.kind === 'topics' ? { ...draft, partitions: action.partitions } : draft;
    case 'topic': {
      if (draft.kind === 'source') return draft;
      const names = Object.keys(draft.kind === 'topics' ? draft.carries : draft.topics);
      if (!action.chosen) return withoutRead(draft, ofTopic(names, action.topic));
      return withRead(draft, action.topic, action.topic);
    }
    case 'writes': {
      if (draft.kind !== 'sink') return draft;
      const writes = { ...draft.writes, ...action.set };
      // deleted rows can be marked among current rows only
      if (writes.deletes === 'marked' && writes.rows !== 'current') writes.deletes = 'applied';
      const placing = oneLane(writes) ? { ...draft.placing, lanes: 1 } : draft.placing;
      return { ...draft, writes, placing };
    }
    default:
      if (draft.kind === 'topics' && action.type === 'values')
        return { ...draft, values: { ...draft.values, ...action.set } };
      return draft.kind === 'source' ? reduceSource(draft, action) : draft;
  }
}

type OfSource = Extract<Action, { type: 'table' | 'ofTable' | 'ofSource' | 'template' | 'load' | 'values' }>;

function reduceSource(draft: SourceDraft, action: OfSource): SourceDraft {
  switch (action.type) {
    case 'table': {
      if (!draft.system) return draft;
      const key = keyOf(action.table);
      if (!action.chosen)
        return { ...draft, tables: without(draft.tables, key), shape: withSteps(draft.shape, key, []) };
      const topic = topicFor(draft.system, action.table, draft.template);
      const chosen = { ...action.table, topic, leaveOut: [], key: [], loadWhere: '' };
      return { ...draft, tables: { ...draft.tables, [key]: chosen } };
    }
    case 'ofTable': {
      const before = draft.tables[action.table];
      if (!before) return draft;
      return { ...draft, tables: { ...draft.tables, [action.table]: { ...before, ...action.set } } };
    }
    case 'ofSource':
      return { ...draft, ...action.set };
    case 'template': {
      const system = draft.system ?? { id: '', name: '' };
      // a topic that was named by hand keeps its name
      const named = Object.entries(draft.tables).map(([key, table]) => {
        const byTemplate = table.topic === topicFor(system, table, draft.template);
        return [key, byTemplate ? { ...table, topic: topicFor(system, table, action.template) } : table] as const;
      });
      return { ...draft, template: action.template, tables: Object.fromEntries(named) };
    }
    case 'load':
      return { ...draft, load: { ...draft.load, ...action.set } };
    case 'values':
      return { ...draft, values: { ...draft.values, ...action.set } };
  }
}

/** What is still to be done before it can be saved; null when nothing is. */
export function missing(draft: Draft, taken: readonly string[]): string | null {
  if (!draft.system && draft.kind !== 'topics')
    return draft.kind === 'source' ? 'Choose the system to read from.' : 'Choose the system to write to.';
  if (draft.kind === 'source') {
    const byName = patternsIn(draft.include).length > 0;
    if (!byName && Object.keys(draft.tables).length === 0) return 'Choose at least one table.';
    if (byName && !draft.template.includes('{table}')) return 'Topics of tables found by name need {table} in theirs.';
    const topics = Object.values(draft.tables).map((t) => t.topic);
    if (draft.schemaChanges !== '') topics.push(draft.schemaChanges);
    const twice = topics.find((topic, n) => topics.indexOf(topic) !== n);
    if (twice !== undefined) return `Two tables go to ${twice}: give each a topic of its own.`;
  }
  if (draft.kind === 'topics') {
    const carried = Object.entries(draft.carries);
    if (carried.length === 0) return 'Choose at least one topic.';
    const empty = carried.find(([, to]) => to.trim() === '');
    if (empty) return `Say where the rows of ${empty[0]} go.`;
    const same = carried.find(([, to]) => carried.some(([name]) => topicOf(name) === to));
    if (same) return `${same[1]} would be read and written: give the rows of ${same[0]} another topic.`;
  }
  if (draft.kind === 'sink' && Object.keys(draft.topics).length === 0) return 'Choose at least one topic.';
  const start = draft.start;
  if (start?.at === 'connector' && start.connector === '') return 'Choose the connector where it begins.';
  if (start?.at === 'position' && start.position.trim() === '') return 'Give the position where it begins.';
  if (start?.at === 'time' && Number.isNaN(Date.parse(start.time))) return 'Give the time at which it begins.';
  const label = badLabel(Object.entries(draft.placing.only_where ?? {}).map(([name, value]) => `${name}=${value}`));
  if (label) return `${label}.`;
  if (draft.name.trim() === '') return 'Give it a name.';
  if (taken.includes(draft.name)) return `There is a connector ${draft.name} already: choose another name.`;
  return null;
}
