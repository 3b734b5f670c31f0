import { expect, it } from 'vitest';

import { deliveredTable } from './delivered';

it('rows stand under all columns; what is left alone is empty, null is said', () => {
  const table = deliveredTable([
    { how: 'removed', cells: { id: 1 } },
    { how: 'written', cells: { id: 2, grade: null, old: { id: 2 }, remark: 'late' } },
  ]);
  expect(table.columns).toEqual(['id', 'grade', 'old', 'remark']);
  expect(table.rows.map((row) => row.cells)).toEqual([
    ['1', '', '', ''],
    ['2', 'null', '{"id":2}', 'late'],
  ]);
  expect(deliveredTable([])).toEqual({ columns: [], rows: [] });
});
