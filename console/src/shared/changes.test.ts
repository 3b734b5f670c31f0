import { describe, expect, it } from 'vitest';

import { changed, current, told, type Change } from './changes';

const is = (name: string, records: number) =>
  ({ kind: 'topic', id: name, object: { name, records } }) as unknown as Change;
const gone = (name: string): Change => ({ kind: 'topic', id: name });

describe('a list after changes', () => {
  const list = [
    { name: 'bins', records: 1 },
    { name: 'lots', records: 2 },
  ];
  const shown = (...changes: Change[]) => changed(list, changes).map((t) => `${t.name} ${t.records}`);

  it.each([
    [[is('lots', 3)], ['bins 1', 'lots 3']],
    [
      [is('lots', 3), is('lots', 4)],
      ['bins 1', 'lots 4'],
    ],
    [[gone('bins')], ['lots 2']],
    [
      [gone('bins'), is('bins', 9)],
      ['bins 9', 'lots 2'],
    ],
    [[is('bins', 9), gone('bins')], ['lots 2']],
    [
      [is('cold', 5), is('ales', 6)],
      ['ales 6', 'bins 1', 'cold 5', 'lots 2'],
    ],
    [[gone('cold')], ['bins 1', 'lots 2']],
  ])('%j', (changes, expected) => expect(shown(...changes)).toEqual(expected));

  it('is the same list where nothing changed', () => expect(changed(list, [])).toBe(list));

  it('knows what has an id by that', () => {
    const object = { id: '7', name: 'bins' };
    const renamed = { kind: 'connector', id: '7', object: { id: '7', name: 'lots' } } as unknown as Change;
    expect(changed([object], [renamed])).toEqual([{ id: '7', name: 'lots' }]);
  });
});

describe('a list that is being read', () => {
  it('is shown with what was told since it was asked for, and only that', async () => {
    told([is('bins', 2)]);
    let answer: (list: { name: string; records: number }[]) => void = () => {};
    const list = current('topic', () => new Promise<{ name: string; records: number }[]>((done) => (answer = done)));
    told([is('lots', 7), gone('bins'), { kind: 'reader', id: 'lots' }]);
    answer([
      { name: 'bins', records: 1 },
      { name: 'lots', records: 1 },
    ]);
    expect(await list).toEqual([{ name: 'lots', records: 7 }]);
    const later = await current('topic', () => Promise.resolve([{ name: 'lots', records: 1 }]));
    expect(later).toEqual([{ name: 'lots', records: 1 }]);
  });
});
