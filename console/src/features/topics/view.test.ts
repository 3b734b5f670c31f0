import { describe, expect, it } from 'vitest';

import { changeView, readView, writeView, type View } from './view';

const start: View = {
  order: 'newest',
  partition: null,
  offset: null,
  time: null,
  key: null,
  tail: false,
  filter: null,
  form: 'table',
};

describe('the view of a topic', () => {
  it.each<[Partial<View>]>([
    [{}],
    [{ order: 'oldest', partition: 2, offset: 1700 }],
    [{ time: '2026-11-24T09:30:00.000Z' }],
    [{ tail: true, partition: 0 }],
    [{ key: 'bin-7', form: 'hex' }],
    [{ filter: "value.new.weight > 18 AND key = 'a b'", partition: 1, form: 'raw' }],
  ])('comes back from its address: %j', (part) => {
    const view = { ...start, ...part };
    expect(readView(writeView(view))).toEqual(view);
  });

  it('reads nonsense in an address as nothing asked', () => {
    expect(readView(new URLSearchParams('order=up&partition=-1&offset=x&time=soon&tail=yes'))).toEqual(start);
  });

  it.each<[string, View, Partial<View>, Partial<View>]>([
    [
      'another partition forgets the offset',
      { ...start, partition: 1, offset: 9 },
      { partition: 2 },
      { partition: 2, offset: null },
    ],
    ['no partition, no offset', { ...start, partition: 1, offset: 9 }, { partition: null }, { offset: null }],
    ['a time replaces an offset', { ...start, partition: 1, offset: 9 }, { time: 'T' }, { offset: null, time: 'T' }],
    [
      'following goes to the newest',
      { ...start, order: 'oldest', time: 'T' },
      { tail: true },
      { order: 'newest', time: null, tail: true },
    ],
    [
      'a search begins at the newest and of all keys',
      { ...start, order: 'oldest', key: 'k', tail: true },
      { filter: 'offset > 3' },
      { order: 'newest', key: null, tail: false, filter: 'offset > 3' },
    ],
    ['an order ends a search', { ...start, filter: 'true' }, { order: 'oldest' }, { filter: null }],
    ['another form goes on with a search', { ...start, filter: 'true' }, { form: 'hex' }, { filter: 'true' }],
    ['the oldest ends following', { ...start, tail: true }, { order: 'oldest' }, { tail: false }],
  ])('%s', (_, before, change, after) => expect(changeView(before, change)).toMatchObject(after));
});
