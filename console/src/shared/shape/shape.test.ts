import { describe, expect, it } from 'vitest';

import {
  around,
  blank,
  compared,
  fate,
  gone,
  isNothing,
  leaves,
  moved,
  sentence,
  STEPS,
  telling,
  withRules,
  withSteps,
} from './shape';

const column = (name: string) => ({ name, type: 'text', key: name === 'id', nullable: name !== 'id' });
const row = (...cells: (string | null)[]) => ({ cells, there: true });

describe('steps', () => {
  it('each kind has a blank one and a sentence for it', () => {
    for (const { word } of STEPS) {
      const step = blank(word);
      expect(step.step).toBe(word);
      expect(sentence(step)).not.toBe('');
    }
  });

  it('say what they do', () => {
    expect(sentence({ step: 'mask', columns: ['phone', 'email'], how: 'hash' })).toBe('phone, email as a keyed hash');
    expect(sentence({ step: 'keep', columns: ['a', 'b', 'c', 'd', 'e'] })).toBe('Keep a, b, c and 2 more');
    expect(sentence({ step: 'route', ways: [{ when: 'kg > 9', to: 'large' }, { to: 'rest' }] })).toBe(
      'large where kg > 9, rest',
    );
    const facts = [
      { fact: 'system', header: 'from' },
      { fact: 'kind', column: 'what' },
    ] as const;
    expect(sentence({ step: 'origin', facts: [...facts] })).toBe('from (header), what of the origin');
    const columns = [{ from: 'name', column: 'grower' }];
    const by = [{ column: 'grower_id', key: 'id' }];
    expect(sentence({ step: 'lookup', topic: 'packhouse.growers', by, columns, again: true })).toBe(
      'grower from packhouse.growers, again when it changes',
    );
  });

  it('of a table that has none any more stand there no more', () => {
    const one = withSteps({}, 'bins', [blank('drop_repeats')]);
    expect(Object.keys(one.steps ?? {})).toEqual(['bins']);
    expect(isNothing(withSteps(one, 'bins', []))).toBe(true);
    expect(isNothing(withRules(one, []))).toBe(false);
  });

  it('are moved within the list, and nowhere else', () => {
    expect(moved(['a', 'b', 'c'], 0, 2)).toEqual(['b', 'c', 'a']);
    expect(moved(['a', 'b'], 0, 5)).toEqual(['a', 'b']);
    expect(moved(['a', 'b'], 3, 0)).toEqual(['a', 'b']);
  });
});

describe('a sample', () => {
  const tried = {
    columns: [column('id'), column('name'), column('phone')],
    rows: [row('1', 'Ada', '0161'), row('2', null, null)],
    stages: [
      {
        step: 0,
        columns: [column('id'), column('name'), column('phone')],
        rows: [row('1', 'ADA', '0161'), row('2', null, null)],
      },
      {
        step: 2,
        columns: [column('id'), column('name'), column('label')],
        rows: [row('1', 'ADA', 'x'), row('2', null, null)],
      },
    ],
    outcomes: [],
    findings: [],
    before: [],
  };

  it('marks what a step changes, by the names of columns', () => {
    const { before, after } = around(tried, 0);
    const [first] = compared(before, after);
    expect(first?.map((c) => c.was)).toEqual([undefined, 'Ada', undefined]);
    const last = around(tried, 2);
    expect(compared(last.before, last.after)[0]?.[2]).toMatchObject({ column: 'label', isNew: true, value: 'x' });
    expect(gone(last.before.columns, last.after.columns)).toEqual(['phone']);
  });

  it('shows a step that is off as one that changes nothing', () => {
    const { before, after } = around(tried, 1);
    expect(before).toBe(after);
  });

  it('shows a row that fails and one that leaves before others, and says where it leaves', () => {
    const outcomes = [[''], [''], [''], [], ['']].map((becomes) => ({ kind: 'load', becomes }));
    const rows = outcomes.map((_, n) => row(String(n), null, null));
    const stage = { step: 1, columns: tried.columns, rows: rows.map((r, n) => ({ ...r, there: n !== 3 })) };
    const failing = outcomes.map((o, n) => (n === 4 ? { ...o, finding: 'no number' } : o));
    const more = { ...tried, rows, stages: [stage], outcomes: failing };
    expect(telling(more, 3)).toEqual([0, 3, 4]);
    // made rows are the last, and come before all others
    expect([telling(more, 3, 2), telling(more, 2, 4), telling(more, 4, 1)]).toEqual([
      [0, 3, 4],
      [3, 4],
      [0, 1, 3, 4],
    ]);
    expect(telling({ ...more, outcomes }, 3, 1)).toEqual([0, 3, 4]);
    expect([leaves(more, 0), leaves(more, 3)]).toEqual([null, 1]);
    expect(fate(failing[3], 1).words).toBe('load: goes no further than step 2');
  });

  it('says what becomes of a row', () => {
    expect(fate({ kind: 'update', becomes: ['delete'] })).toEqual({ words: 'update becomes delete', tone: 'fine' });
    expect(fate({ kind: 'insert', becomes: [] }).tone).toBe('out');
    expect(fate({ kind: 'load', becomes: ['load'], to: 'large' }).words).toBe('load in large');
    expect(fate({ kind: 'load', becomes: [], finding: 'division by zero' }).tone).toBe('fails');
  });
});
