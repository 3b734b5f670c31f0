import { expect, it } from 'vitest';

import { difference } from '../../shared/difference';
import { sideBySide } from './sides';

it('what went stands beside what came, and neither text loses a line', () => {
  const [before, after] = ['a\nb\nc\nd', 'a\nx\ny\nz\nd\ne'];
  const rows = sideBySide(difference(before, after));
  const side = (n: 0 | 1) => rows.flatMap((row) => row[n]?.text ?? []).join('\n');
  expect([side(0), side(1)]).toEqual([before, after]);
  expect(rows.map(([l, r]) => `${l?.text ?? ''}|${r?.text ?? ''}`)).toEqual(['a|a', 'b|x', 'c|y', '|z', 'd|d', '|e']);
});
