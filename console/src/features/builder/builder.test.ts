import { describe, expect, it } from 'vitest';

import { begin, missing, reduce, request, targetTable, topicFor, type Action, type Draft } from './builder';

const packhouse = { id: 'p', name: 'packhouse' };
const settlement = { id: 's', name: 'settlement' };
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

  it('makes the request of a source', () => {
    expect(request(chosen, true)).toEqual({
      name: 'packhouse-changes',
      start: true,
      definition: { kind: 'source', connection: 'p', partitions: 3, tables: [{ ...bins, topic: 'packhouse.bins' }] },
    });
  });

  it('makes the request of a sink for the topics it was opened with', () => {
    const draft = after(begin('sink', ['packhouse.bins']), { type: 'system', system: settlement });
    expect(request(draft, false)).toEqual({
      name: 'settlement-tables',
      start: false,
      definition: { kind: 'sink', connection: 's', topics: [{ topic: 'packhouse.bins', ...bins }] },
    });
  });

  it('forgets the tables of another system, and keeps a name that a person gave', () => {
    const draft = after(chosen, { type: 'name', name: 'mine' }, { type: 'system', system: settlement });
    expect(draft).toMatchObject({ name: 'mine', tables: {} });
    expect(after(chosen, { type: 'system', system: settlement }).name).toBe('settlement-changes');
  });

  it.each<[string, Action]>([
    ['a topic of a table that is not chosen', { type: 'topicOf', table: 'public.rooms', topic: 'x' }],
    ['a topic in a source', { type: 'topic', topic: 'x', chosen: true }],
  ])('is not changed by %s', (_, action) => expect(reduce(chosen, action)).toBe(chosen));

  it('names topics and tables in characters that names may hold', () => {
    expect(topicFor('packhouse', { schema: 'old site', table: 'Bins!' })).toBe('packhouse.old-site.Bins-');
    expect(targetTable('packhouse.Bin-lines')).toEqual({ schema: 'public', table: 'bin_lines' });
  });
});
