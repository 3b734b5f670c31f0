/** The builder's draft as the definition that the API takes, and back. */
import type { Schemas } from '../../api/client';
import { isNothing, NOTHING } from '../../shared/shape/shape';
import { keyOf } from '../../shared/tables';
import {
  FAILING,
  LOAD,
  patternsIn,
  PLACING,
  TEMPLATE,
  VALUES,
  WRITES,
  type CapturedChoice,
  type Draft,
  type SourceDraft,
  type SystemChoice,
} from './builder';
import type { EventRows } from './eventRows';
import { readName, topicOf } from './types';

type Definition = Schemas['Definition'];
type Captured = Schemas['CapturedTable'];

/** A chosen table in the form of the API, without what is as it usually is. */
export function captured(table: CapturedChoice): Captured {
  const { schema, table: name, topic } = table;
  const out: Captured = { schema, table: name, topic };
  if (table.leaveOut.length > 0) out.leave_out = table.leaveOut;
  if (table.key.length > 0) out.key = table.key;
  if (table.loadWhere.trim() !== '') out.load_where = table.loadWhere;
  return out;
}

function chosen(table: Captured): CapturedChoice {
  const { schema = '', table: name, topic } = table;
  const more = { leaveOut: table.leave_out ?? [], key: table.key ?? [], loadWhere: table.load_where ?? '' };
  return { schema, table: name, topic, ...more };
}

function source(draft: SourceDraft, system: SystemChoice): Definition {
  const include = patternsIn(draft.include);
  const definition: Extract<Definition, { kind: 'source' }> = {
    kind: 'source',
    connection: system.id,
    tables: Object.values(draft.tables).map(captured),
    partitions: draft.partitions,
    load: draft.load,
    values: draft.values,
  };
  if (include.length > 0) {
    // the connection's own name for its system is known here, and not where tables are found later
    const topic = draft.template.replaceAll('{system}', system.name);
    definition.patterns = { include, exclude: patternsIn(draft.exclude), topic };
  }
  if (draft.existingRows) definition.existing_rows = draft.existingRows;
  if (draft.start) definition.start = draft.start;
  carried(draft, definition);
  if (draft.schemaChanges !== '') definition.schema_changes = draft.schemaChanges;
  return definition;
}

const rowsOf = (rows: Record<string, EventRows>, name: string) => (rows[name] ? { rows: rows[name] } : {});

interface Read {
  topic: string;
  rows?: EventRows | null;
}

/** What a topic of a definition is called here. */
const nameOf = ({ topic, rows }: Read) => readName(topic, rows?.only);

/** How records become rows, of those topics of a definition that hold events. */
const rowsIn = (topics: readonly Read[]): Record<string, EventRows> =>
  Object.fromEntries(topics.flatMap((read) => (read.rows ? [[nameOf(read), read.rows]] : [])));

/** The definition that a draft stands for; null while it has no system. */
export function definitionOf(draft: Draft): Definition | null {
  if (draft.kind === 'topics') {
    const carries = Object.entries(draft.carries).map(([name, to]) => ({
      topic: topicOf(name),
      to,
      ...rowsOf(draft.rows, name),
      ...(draft.fits[name] ? { fit: draft.fits[name] } : {}),
    }));
    const { partitions, values } = draft;
    const topics: Extract<Definition, { kind: 'topics' }> = { kind: 'topics', carries, partitions, values };
    if (draft.start) topics.start = draft.start;
    carried(draft, topics);
    return topics;
  }
  if (!draft.system) return null;
  if (draft.kind === 'source') return source(draft, draft.system);
  const topics = Object.entries(draft.topics).map(([name, table]) => ({
    topic: topicOf(name),
    ...table,
    ...rowsOf(draft.rows, name),
  }));
  const definition: Extract<Definition, { kind: 'sink' }> = {
    kind: 'sink',
    connection: draft.system.id,
    topics,
    writes: draft.writes,
  };
  if (draft.existingRows) definition.existing_rows = draft.existingRows;
  if (draft.start) definition.start = draft.start;
  carried(draft, definition);
  return definition;
}

/** Where it runs and what happens when something fails, without what is as it usually is. */
function carried({ shape, placing, failing }: Draft, definition: Definition): void {
  if (!isNothing(shape)) definition.shape = shape;
  const usual = (value: object, as: object) => JSON.stringify({ ...as, ...value }) === JSON.stringify(as);
  if (!usual(placing, PLACING)) definition.placing = placing;
  if (!usual(failing, FAILING)) definition.failing = failing;
}

/** What a connector becomes: a draft as it is, one that is ready to start, or one that starts. */
export type Becomes = 'draft' | 'ready' | 'started';

/** The request for a connector; `kept` is the unfinished draft that it was, which goes as it is made. */
export function request(draft: Draft, becomes: Becomes, kept?: string): Schemas['ConnectorRequest'] | null {
  const definition = definitionOf(draft);
  if (!definition) return null;
  const made = { name: draft.name, definition, start: becomes === 'started', checked: becomes === 'ready' };
  return kept === undefined ? made : { ...made, draft: kept };
}

/** The draft that a definition stands for; `systems` are the connections that are there. */
export function draftOf(name: string, definition: Definition, systems: readonly SystemChoice[]): Draft {
  const connection = definition.kind === 'topics' ? null : definition.connection;
  const system = systems.find((s) => s.id === connection) ?? null;
  const common = { name, named: true, system, start: definition.start ?? null, shape: definition.shape ?? NOTHING };
  const more = { placing: { ...PLACING, ...definition.placing }, failing: { ...FAILING, ...definition.failing } };
  if (definition.kind === 'topics') {
    const carries = Object.fromEntries(definition.carries.map((c) => [nameOf(c), c.to]));
    const values = { ...VALUES, ...definition.values };
    const rows = rowsIn(definition.carries);
    const fits = Object.fromEntries(definition.carries.flatMap((c) => (c.fit ? [[nameOf(c), c.fit]] : [])));
    return { ...common, ...more, kind: 'topics', carries, rows, fits, partitions: definition.partitions, values };
  }
  if (definition.kind === 'sink') {
    const topics = definition.topics.map((t) => [nameOf(t), { schema: t.schema ?? '', table: t.table }] as const);
    return {
      ...common,
      ...more,
      kind: 'sink',
      topics: Object.fromEntries(topics),
      rows: rowsIn(definition.topics),
      writes: { ...WRITES, ...definition.writes },
      existingRows: definition.existing_rows ?? null,
    };
  }
  return {
    ...common,
    ...more,
    kind: 'source',
    tables: Object.fromEntries((definition.tables ?? []).map((t) => [keyOf(t), chosen(t)])),
    include: (definition.patterns?.include ?? []).join(', '),
    exclude: (definition.patterns?.exclude ?? []).join(', '),
    template: definition.patterns?.topic ?? TEMPLATE,
    partitions: definition.partitions,
    load: { ...LOAD, ...definition.load },
    existingRows: definition.existing_rows ?? null,
    values: { ...VALUES, ...definition.values },
    schemaChanges: definition.schema_changes ?? '',
  };
}
