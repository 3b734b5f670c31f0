/** What the builder gathers, as one value that every step of the page changes through {@link reduce}. */
import type { Schemas } from '../../api/client';

export interface SystemChoice {
  id: string;
  name: string;
}

export interface TableChoice {
  schema: string;
  table: string;
}

interface Common {
  name: string;
  /** Whether a person gave the name; until then it follows the system's. */
  named: boolean;
  system: SystemChoice | null;
}

export interface SourceDraft extends Common {
  kind: 'source';
  /** Topics of the chosen tables, by `schema.table`. */
  tables: Record<string, TableChoice & { topic: string }>;
  /** How topics are named after their tables: `{system}.{schema}.{table}` and the like. */
  template: string;
  partitions: number;
  load: Schemas['InitialLoad'];
}

export interface SinkDraft extends Common {
  kind: 'sink';
  /** Tables of the chosen topics, by topic. */
  topics: Record<string, TableChoice>;
}

export type Draft = SourceDraft | SinkDraft;

export type Action =
  | { type: 'system'; system: SystemChoice | null; taken?: readonly string[] }
  | { type: 'name'; name: string }
  | { type: 'table'; table: TableChoice; chosen: boolean }
  | { type: 'topicOf'; table: string; topic: string }
  | { type: 'template'; template: string }
  | { type: 'partitions'; partitions: number }
  | { type: 'load'; load: Schemas['InitialLoad'] }
  | { type: 'topic'; topic: string; chosen: boolean }
  | { type: 'tableOf'; topic: string; table: TableChoice };

export function begin(kind: Draft['kind'], topics: string[] = []): Draft {
  const common = { name: '', named: false, system: null };
  if (kind === 'source') {
    return { ...common, kind, tables: {}, template: TEMPLATE, partitions: 3, load: { rows: true } };
  }
  return { ...common, kind, topics: Object.fromEntries(topics.map((t) => [t, targetTable(t)])) };
}

/** How topics are named if nothing else is said. */
export const TEMPLATE = '{system}.{schema}.{table}';

/**
 * A topic for a table by a template, in characters that names may hold. PostgreSQL's usual schema says nothing, so where
 * it stands with a dot it is left out.
 */
export function topicFor(system: string, { schema, table }: TableChoice, template = TEMPLATE): string {
  const short = schema === 'public' ? template.replace('{schema}.', '').replace('.{schema}', '') : template;
  const parts: Record<string, string> = { system, schema, table };
  return short
    .replace(/\{(system|schema|table)\}/g, (_, part: string) => parts[part] ?? '')
    .replace(/[^A-Za-z0-9._-]/g, '-');
}

/** A target table for a topic: its last part. */
export function targetTable(topic: string): TableChoice {
  const last = topic.split('.').pop() ?? topic;
  return { schema: 'public', table: last.replace(/[^A-Za-z0-9_]/g, '_').toLowerCase() };
}

export function keyOf({ schema, table }: TableChoice): string {
  return `${schema}.${table}`;
}

function without<T>(all: Record<string, T>, key: string): Record<string, T> {
  return Object.fromEntries(Object.entries(all).filter(([name]) => name !== key));
}

function nameFor(kind: Draft['kind'], system: string): string {
  return kind === 'source' ? `${system}-changes` : `${system}-tables`;
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
    case 'system': {
      const free = action.system ? freeName(nameFor(draft.kind, action.system.name), action.taken ?? []) : '';
      const name = draft.named ? draft.name : free;
      // another system has other tables
      if (draft.kind === 'source') return { ...draft, system: action.system, name, tables: {} };
      return { ...draft, system: action.system, name };
    }
    case 'name':
      return { ...draft, name: action.name, named: action.name !== '' };
    case 'table': {
      if (draft.kind !== 'source' || !draft.system) return draft;
      const key = keyOf(action.table);
      if (!action.chosen) return { ...draft, tables: without(draft.tables, key) };
      const topic = topicFor(draft.system.name, action.table, draft.template);
      return { ...draft, tables: { ...draft.tables, [key]: { ...action.table, topic } } };
    }
    case 'topicOf': {
      const before = draft.kind === 'source' ? draft.tables[action.table] : undefined;
      if (draft.kind !== 'source' || !before) return draft;
      return { ...draft, tables: { ...draft.tables, [action.table]: { ...before, topic: action.topic } } };
    }
    case 'template': {
      if (draft.kind !== 'source') return draft;
      const system = draft.system?.name ?? '';
      // a topic that was named by hand keeps its name
      const named = Object.entries(draft.tables).map(([key, table]) => {
        const byTemplate = table.topic === topicFor(system, table, draft.template);
        return [key, byTemplate ? { ...table, topic: topicFor(system, table, action.template) } : table] as const;
      });
      return { ...draft, template: action.template, tables: Object.fromEntries(named) };
    }
    case 'load':
      return draft.kind === 'source' ? { ...draft, load: action.load } : draft;
    case 'partitions':
      return draft.kind === 'source' ? { ...draft, partitions: action.partitions } : draft;
    case 'topic': {
      if (draft.kind !== 'sink') return draft;
      if (!action.chosen) return { ...draft, topics: without(draft.topics, action.topic) };
      return { ...draft, topics: { ...draft.topics, [action.topic]: targetTable(action.topic) } };
    }
    case 'tableOf':
      return draft.kind === 'sink' ? { ...draft, topics: { ...draft.topics, [action.topic]: action.table } } : draft;
  }
}

/** What is still to be done before it can be saved; null when nothing is. */
export function missing(draft: Draft, taken: readonly string[]): string | null {
  if (!draft.system)
    return draft.kind === 'source' ? 'Choose the system to read from.' : 'Choose the system to write to.';
  if (draft.kind === 'source' && Object.keys(draft.tables).length === 0) return 'Choose at least one table.';
  if (draft.kind === 'source') {
    const topics = Object.values(draft.tables).map((t) => t.topic);
    const twice = topics.find((topic, n) => topics.indexOf(topic) !== n);
    if (twice !== undefined) return `Two tables go to ${twice}: give each a topic of its own.`;
  }
  if (draft.kind === 'sink' && Object.keys(draft.topics).length === 0) return 'Choose at least one topic.';
  if (draft.name.trim() === '') return 'Give it a name.';
  if (taken.includes(draft.name)) return `There is a connector ${draft.name} already: choose another name.`;
  return null;
}

export function request(draft: Draft, start: boolean): Schemas['ConnectorRequest'] | null {
  if (!draft.system) return null;
  const connection = draft.system.id;
  const definition: Schemas['Definition'] =
    draft.kind === 'source'
      ? {
          kind: 'source',
          connection,
          partitions: draft.partitions,
          load: draft.load,
          tables: Object.values(draft.tables),
        }
      : {
          kind: 'sink',
          connection,
          topics: Object.entries(draft.topics).map(([topic, table]) => ({ topic, ...table })),
        };
  return { name: draft.name, definition, start };
}
