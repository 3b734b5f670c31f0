import { expect, it } from 'vitest';

import { covers, keyOf } from './tables';

it.each<[string, string, string, boolean]>([
  ['bins', 'public', 'bins', true],
  ['public.b*', 'public', 'bins', true],
  ['public.*', 'public', 'bins', true],
  ['public.b', 'public', 'bins', false],
  ['b?ns', 'cold', 'bins', true],
  ['public.bins', 'public', 'bins2', false],
  ['(x)', 'public', '(x)', true],
  // without schemas, by their names alone
  ['*.*', '', 'bins', true],
  ['*/bins.*', '', '2026/bins.csv', true],
  ['*.2026/*', '', '2026/bins.csv', true],
  ['bins.csv', '', '2026/bins.csv', false],
  ['cold.*', '', 'bins', false],
])('the pattern %s, and the table %s . %s: %s', (pattern, schema, table, fits) => {
  expect(covers(pattern, { schema, table })).toBe(fits);
});

it('a table is known by its schema, if it has one', () => {
  expect([{ schema: 'cold', table: 'rooms' }, { schema: '', table: 'a.csv' }, { table: 'b.csv' }].map(keyOf)).toEqual([
    'cold.rooms',
    'a.csv',
    'b.csv',
  ]);
});
