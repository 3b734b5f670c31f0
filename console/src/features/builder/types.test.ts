import { describe, expect, it } from 'vitest';

import { begin, reduce, type Action, type Draft } from './builder';
import type { EventRows } from './eventRows';
import { definitionOf, draftOf } from './exchange';
import { partsFor, readName, splitOf, toldBy, topicOf, typesOf } from './types';

const TOPIC = 'coldstore.events';
const seen = {
  part: 'header' as const,
  path: ['ce-type'],
  types: ['eu.coldstore.reading', 'eu.coldstore.door'].map((what) => ({ what, records: 3 })),
};
const types = seen.types.map((type) => type.what);
const parts = (others: boolean) =>
  partsFor(seen, types, others, TOPIC).map(({ only, after }) => {
    const rows: EventRows = { only, columns: [{ name: 'id', type: 'text', part: 'key', key: true }] };
    return { name: readName(TOPIC, only), after, rows };
  });

const settlement = { id: 's', name: 'settlement' };
const after = (draft: Draft, ...actions: Action[]) => actions.reduce(reduce, draft);

describe('a topic with events of several types', () => {
  it('has a name for each of its parts, from which topic and types are read', () => {
    const names = parts(true).map((part) => part.name);
    expect(names).toEqual([
      'coldstore.events [eu.coldstore.reading]',
      'coldstore.events [eu.coldstore.door]',
      'coldstore.events [not eu.coldstore.reading, eu.coldstore.door]',
    ]);
    expect(names.map(topicOf)).toEqual([TOPIC, TOPIC, TOPIC]);
    expect([typesOf(TOPIC), typesOf(names[0] ?? '')]).toEqual(['', '[eu.coldstore.reading]']);
    expect(toldBy(seen)).toBe('header ce-type');
    expect(splitOf(parts(true).map((part) => part.rows))).toEqual({ types, others: true });
    expect(splitOf([{ columns: [] }, undefined])).toBeNull();
  });

  it('goes to a table for each type, and back to one', () => {
    const sink = after(
      begin('sink'),
      { type: 'system', system: settlement },
      { type: 'topic', topic: 'packhouse.door', chosen: true },
      { type: 'topic', topic: TOPIC, chosen: true },
      { type: 'types', topic: TOPIC, parts: parts(true) },
    );
    if (sink.kind !== 'sink') throw new Error('it is a sink');
    expect(Object.values(sink.topics).map((t) => t.table)).toEqual(['door', 'reading', 'door_2', 'events_others']);
    // what was said of a type that stays is kept
    const name = `${TOPIC} [eu.coldstore.door]`;
    const named = after(
      sink,
      { type: 'tableOf', topic: name, table: { schema: 'public', table: 'doors' } },
      { type: 'shape', shape: { steps: { [name]: [{ step: 'keep', columns: ['id'] }] } } },
      { type: 'types', topic: TOPIC, parts: parts(false).slice(1) },
    );
    if (named.kind !== 'sink') throw new Error('it is a sink');
    expect(Object.keys(named.topics)).toEqual(['packhouse.door', name]);
    expect([named.topics[name]?.table, Object.keys(named.shape.steps ?? {})]).toEqual(['doors', [name]]);
    const whole = reduce(named, { type: 'types', topic: TOPIC, parts: [] });
    expect(whole.kind === 'sink' && Object.keys(whole.topics)).toEqual(['packhouse.door', TOPIC]);
    const none = reduce(sink, { type: 'topic', topic: TOPIC, chosen: false });
    expect(none.kind === 'sink' && [Object.keys(none.topics), none.rows]).toEqual([['packhouse.door'], {}]);
  });

  it.each(['sink', 'topics'] as const)('is the same %s once it was saved', (kind) => {
    const draft = after(
      begin(kind),
      { type: 'system', system: settlement },
      { type: 'topic', topic: TOPIC, chosen: true },
      { type: 'types', topic: TOPIC, parts: parts(true) },
    );
    const definition = definitionOf(draft);
    if (!definition) throw new Error('it has a definition');
    const topics =
      definition.kind === 'sink' ? definition.topics : definition.kind === 'topics' ? definition.carries : [];
    expect(topics.map((t) => [t.topic, t.rows?.only?.is?.[0] ?? ''])).toEqual([
      [TOPIC, types[0]],
      [TOPIC, types[1]],
      [TOPIC, ''],
    ]);
    expect(definitionOf(draftOf('a', definition, [settlement]))).toEqual(definition);
  });
});
