import { expect, it } from 'vitest';

import { changedFields, heights, parts, readJson } from './said';

it('a finding is told from its remedy', () => {
  expect(parts('"public"."bins": smallint out of range (22003): give the column a wider type')).toEqual({
    found: '"public"."bins": smallint out of range (22003)',
    remedy: 'give the column a wider type',
  });
  expect(parts('offset 7 is not a change (it has no schema)').remedy).toBeNull();
});

it('hours are drawn by the fullest', () => {
  expect(heights([0, 2, 4])).toEqual([0, 0.5, 1]);
  expect(heights([0, 0])).toEqual([0, 0]);
});

it('what a mending changes is named by its path', () => {
  const before = { change: 'update', new: { id: 1, grade: 'x', room: null }, old: null };
  expect(changedFields(before, { ...before, new: { id: 1, grade: 'y' } })).toEqual(['new.grade', 'new.room']);
  expect(changedFields(before, before)).toEqual([]);
  expect(changedFields(1, 2)).toEqual(['the whole value']);
});

it('a text that is no JSON says so', () => {
  expect(readJson('{"a": 1}')).toEqual({ value: { a: 1 } });
  expect(readJson('{')).toHaveProperty('fault');
});
