import { describe, expect, it } from 'vitest';

import { readChange } from './change';

const origin = { system: 'packhouse', position: '0/1' };

describe('reading a change', () => {
  it('marks what changed between the two images', () => {
    const change = readChange({
      change: 'update',
      new: { id: 7, grade: 'first', remark: null, room_id: 2 },
      old: { id: 7, grade: 'extra', remark: null, room_id: 2 },
      unchanged: [],
      origin,
    });
    expect(change?.rows.filter((r) => r.changed).map((r) => r.column)).toEqual(['grade']);
    expect(change?.rows[2]?.new).toEqual({ text: 'null', absent: 'null' });
  });

  it('does not take a value that was not sent for a null, nor for a change', () => {
    const change = readChange({
      change: 'update',
      new: { id: 7, remark: null },
      old: { id: 7, remark: 'x' },
      unchanged: ['remark'],
      origin,
    });
    expect(change?.rows[1]).toMatchObject({ changed: false, new: { absent: 'unchanged' }, old: { text: 'x' } });
  });

  it('knows only the key of a row that was deleted without its old row', () => {
    const change = readChange({ change: 'delete', new: null, old: { id: 7 }, unchanged: [], origin });
    expect(change?.rows).toEqual([{ column: 'id', old: { text: '7', absent: null }, new: null, changed: false }]);
  });

  it.each([['text'], [null], [[1]], [{ change: 'update' }], [{ new: {}, origin }]])('%j is no change', (value) =>
    expect(readChange(value)).toBeNull(),
  );
});
