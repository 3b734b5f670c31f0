import { describe, expect, it } from 'vitest';

import { around, difference } from './difference';

const shown = (before: string, after: string) =>
  difference(before, after)
    .map((l) => ({ same: ' ', gone: '-', new: '+' })[l.kind] + l.text)
    .join('|');

describe('the difference of two texts', () => {
  it.each([
    ['a\nb\nc\n', 'a\nb\nc\n', ' a| b| c'],
    ['a\nb\nc', 'a\nx\nc', ' a|-b|+x| c'],
    ['a\nb', 'a\nb\nc\nd', ' a| b|+c|+d'],
    ['a\nb\nc', 'c', '-a|-b| c'],
    ['a\nb\na', 'b\na\na', '-a| b| a|+a'],
  ])('of %j and %j', (before, after, expected) => expect(shown(before, after)).toBe(expected));

  it('leaves out what is far from every change', () => {
    const lines = difference('1\n2\n3\n4\n5\n6', '1\n2\n3\n4\n5\nx');
    expect(around(lines, 1).map((l) => l?.text ?? '…')).toEqual(['…', '5', '6', 'x']);
  });
});
