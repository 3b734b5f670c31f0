import { describe, expect, it } from 'vitest';

import { begin, found, missing, reduce, targetTable, topicFor, type Action, type Draft } from './builder';
import { definitionOf, draftOf, request } from './exchange';
import { opened, work } from './kept';

const packhouse = { id: 'p', name: 'packhouse', usual_schema: 'public' };
const settlement = { id: 's', name: 'settlement', usual_schema: 'public' };
const bins = { schema: 'public', table: 'bins' };

function after(draft: Draft, ...actions: Action[]): Draft {
  return actions.reduce(reduce, draft);
}

describe('the builder', () => {
  const chosen = after(
    begin('source'),
    { type: 'system', system: packhouse },
    { type: 'table', table: bins, chosen: true },
  );

  it('asks for one thing at a time until a source can be saved', () => {
    const steps: [Action, string | null][] = [
      [{ type: 'name', name: '' }, 'Choose the system to read from.'],
      [{ type: 'system', system: packhouse }, 'Choose at least one table.'],
      [{ type: 'table', table: bins, chosen: true }, null],
      [{ type: 'name', name: 'taken' }, 'There is a connector taken already: choose another name.'],
    ];
    let draft = begin('source');
    for (const [action, asks] of steps) {
      draft = reduce(draft, action);
      expect(missing(draft, ['taken'])).toBe(asks);
    }
  });

  it.each<[Action, string]>([
    [{ type: 'start', start: { at: 'connector', connector: '' } }, 'Choose the connector where it begins.'],
    [{ type: 'start', start: { at: 'position', position: ' ' } }, 'Give the position where it begins.'],
    [{ type: 'start', start: { at: 'time', time: 'noon' } }, 'Give the time at which it begins.'],
  ])('asks for what a start lacks: %o', (action, asks) => expect(missing(reduce(chosen, action), [])).toBe(asks));

  it('names topics by the template, and leaves those named by hand', () => {
    const yard = { schema: 'yard', table: 'bays' };
    const some = after(
      chosen,
      { type: 'table', table: yard, chosen: true },
      { type: 'ofTable', table: 'public.bins', set: { topic: 'bins.of.today' } },
    );
    const topics = (draft: Draft) => (draft.kind === 'source' ? Object.values(draft.tables).map((t) => t.topic) : []);
    expect(topics(some)).toEqual(['bins.of.today', 'packhouse.yard.bays']);
    const renamed = reduce(some, { type: 'template', template: 'site-2.{table}' });
    expect(topics(renamed)).toEqual(['bins.of.today', 'site-2.bays']);
    const same = after(chosen, { type: 'table', table: yard, chosen: true }, { type: 'template', template: 'all' });
    expect(missing(same, [])).toBe('Two tables go to all: give each a topic of its own.');
    expect(topicFor({ ...packhouse, name: 'pack house' }, bins, '{system}/{table}.{schema}')).toBe('pack-house-bins');
  });

  it('offers a name that no one has', () => {
    const taken = ['packhouse-changes', 'packhouse-changes-2'];
    expect(reduce(begin('source'), { type: 'system', system: packhouse, taken }).name).toBe('packhouse-changes-3');
    const named = after(begin('source'), { type: 'name', name: 'mine' }, { type: 'system', system: packhouse, taken });
    expect(named.name).toBe('mine');
  });

  it('makes the request of a source', () => {
    expect(request(chosen, 'started')).toEqual({
      name: 'packhouse-changes',
      start: true,
      checked: false,
      definition: {
        kind: 'source',
        connection: 'p',
        partitions: 3,
        load: { rows: true, chunks: 1 },
        values: { form: 'change', encoding: 'avro' },
        tables: [{ ...bins, topic: 'packhouse.bins' }],
      },
    });
  });

  it('makes the request of a sink for the topics it was opened with', () => {
    const draft = after(begin('sink', ['packhouse.bins']), { type: 'system', system: settlement });
    expect(request(draft, 'draft')).toEqual({
      name: 'settlement-tables',
      start: false,
      checked: false,
      definition: {
        kind: 'sink',
        connection: 's',
        topics: [{ topic: 'packhouse.bins', ...bins }],
        writes: {
          rows: 'current',
          deletes: 'applied',
          columns: 'add',
          whole_transactions: false,
          guarantee: 'exactly_once',
        },
      },
    });
  });

  it('forgets the tables of another system, and keeps a name that a person gave', () => {
    const draft = after(chosen, { type: 'name', name: 'mine' }, { type: 'system', system: settlement });
    expect(draft).toMatchObject({ name: 'mine', tables: {} });
    expect(after(chosen, { type: 'system', system: settlement }).name).toBe('settlement-changes');
  });

  it.each<[string, Action]>([
    ['a topic of a table that is not chosen', { type: 'ofTable', table: 'public.rooms', set: { topic: 'x' } }],
    ['a topic in a source', { type: 'topic', topic: 'x', chosen: true }],
  ])('is not changed by %s', (_, action) => expect(reduce(chosen, action)).toBe(chosen));

  it('names topics and tables in characters that names may hold', () => {
    expect(topicFor(packhouse, { schema: 'old site', table: 'Bins!' })).toBe('packhouse.old-site.Bins-');
    expect(topicFor(packhouse, { schema: '', table: '2026/bins.csv' })).toBe('packhouse.2026-bins.csv');
    expect(targetTable('packhouse.Bin-lines', packhouse)).toEqual({ schema: 'public', table: 'bin_lines' });
  });

  it('is the same after a definition and back', () => {
    const source = after(
      chosen,
      { type: 'name', name: 'mine' },
      { type: 'ofTable', table: 'public.bins', set: { leaveOut: ['remark'], key: ['id'], loadWhere: 'id > 3' } },
      { type: 'ofSource', set: { include: 'cold.*, line_?', exclude: '*_old', schemaChanges: 'packhouse.columns' } },
      { type: 'template', template: 'all.{table}' },
      { type: 'load', set: { chunks: 4, rows_per_second: 100 } },
      { type: 'values', set: { form: 'row', encoding: 'json' } },
      { type: 'start', start: { at: 'time', time: '2026-11-25T06:00:00Z' } },
      { type: 'shape', shape: { steps: { 'public.bins': [{ step: 'filter', only: 'id > 3' }] } } },
    );
    const sink = after(
      begin('sink', ['packhouse.bins']),
      { type: 'system', system: settlement },
      { type: 'name', name: 'mine' },
      { type: 'writes', set: { rows: 'history', whole_transactions: true } },
    );
    const between = after(
      begin('topics'),
      { type: 'topic', topic: 'packhouse.bins', chosen: true },
      { type: 'carriedTo', topic: 'packhouse.bins', to: 'bins.enriched' },
      { type: 'name', name: 'mine' },
      { type: 'partitions', partitions: 5 },
      { type: 'failing', set: { records: 'halt' } },
      { type: 'shape', shape: { steps: { 'packhouse.bins': [{ step: 'drop_repeats' }] } } },
    );
    for (const draft of [source, sink, between]) {
      const definition = definitionOf(draft);
      expect(definition && draftOf('mine', definition, [packhouse, settlement])).toEqual(draft);
    }
  });

  it('forgets the steps of what is not carried any more', () => {
    const shape = { steps: { 'packhouse.bins': [{ step: 'filter' as const, only: 'id > 3' }] } };
    const sink = after(
      begin('sink', ['packhouse.bins']),
      { type: 'shape', shape },
      { type: 'topic', topic: 'packhouse.bins', chosen: false },
    );
    expect(sink.shape).toEqual({});
  });

  it('says where it runs and what happens when it fails only where that is not as usual', () => {
    const sink = after(
      begin('sink', ['packhouse.bins']),
      { type: 'system', system: settlement },
      { type: 'name', name: 'mine' },
    );
    expect(definitionOf(sink)).not.toHaveProperty('placing');
    expect(definitionOf(sink)).not.toHaveProperty('failing');
    const near = after(
      sink,
      { type: 'placing', set: { only_where: { site: 'packhouse' }, lanes: 3 } },
      { type: 'failing', set: { records: 'halt', most_tries: 9 } },
    );
    const definition = definitionOf(near);
    expect(definition).toMatchObject({
      placing: { only_where: { site: 'packhouse' }, lanes: 3 },
      failing: { records: 'halt', most_tries: 9 },
    });
    expect(definition && draftOf('mine', definition, [settlement])).toEqual(near);
    expect(missing(after(near, { type: 'placing', set: { only_where: { site: 'the packhouse' } } }), [])).toContain(
      'is no label',
    );
    // whole transactions need one lane
    expect(after(near, { type: 'writes', set: { whole_transactions: true } }).placing.lanes).toBe(1);
    // several keep step in the target
    expect(after(near, { type: 'writes', set: { guarantee: 'at_most_once' } }).placing.lanes).toBe(1);
  });

  it('marks deleted rows among current ones only', () => {
    const marked = reduce(begin('sink'), { type: 'writes', set: { deletes: 'marked' } });
    expect(marked).toMatchObject({ writes: { deletes: 'marked' } });
    expect(reduce(marked, { type: 'writes', set: { rows: 'changes' } })).toMatchObject({
      writes: { deletes: 'applied' },
    });
  });

  it('leaves out what is found by name and excluded', () => {
    const names = { include: 'public.*', exclude: '*_old' };
    expect(found(names, bins)).toBe(true);
    expect(found(names, { schema: 'public', table: 'bins_old' })).toBe(false);
  });

  it('comes back from where it was put aside as it was, and takes what it did not know yet as usual', () => {
    const sink = after(begin('sink', ['packhouse.bins']), { type: 'system', system: settlement });
    const between = reduce(begin('topics', ['packhouse.bins']), { type: 'carriedTo', topic: 'packhouse.bins', to: '' });
    for (const draft of [begin('source'), chosen, sink, between]) {
      const kept = JSON.parse(JSON.stringify(work(draft, 'connector: '))) as ReturnType<typeof work>;
      const back = opened({ kind: draft.kind, work: kept }, [packhouse, settlement]);
      expect(back).toEqual({ draft, text: 'connector: ' });
    }
    const early = { draft: { kind: 'source', name: 'early', load: { chunks: 4 }, system: packhouse } };
    const { draft, text } = opened({ kind: 'source', work: early as unknown as ReturnType<typeof work> }, []);
    expect([draft.name, draft.system, text]).toEqual(['early', null, null]);
    expect(missing(draft, [])).toBe('Choose the system to read from.');
    expect(draft).toMatchObject({ load: { rows: true, chunks: 4 }, values: { form: 'change' }, tables: {} });
  });
});
