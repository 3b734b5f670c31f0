import { describe, expect, it } from 'vitest';

import { bytes, counted, rate, relative, span, timeLeft } from './format';

describe('format', () => {
  it.each([
    [12.4, '12 ms'],
    [1_340, '1.3 s'],
    [42_000, '42 s'],
    [240_000, '4 min'],
    [7_800_000, '2 h 10 min'],
    [7_200_000, '2 h'],
    [259_200_000, '3 d'],
  ])('writes a span of %d ms', (ms, text) => expect(span(ms)).toBe(text));

  it.each([
    [0, '0 B'],
    [999, '999 B'],
    [1_500, '1.5 kB'],
    [123_400_000, '123 MB'],
  ])('writes %d bytes', (value, text) => expect(bytes(value)).toBe(text));

  it.each([
    [0, '0'],
    [0.44, '0.4'],
    [19.6, '20'],
    [12_345, '12,345'],
  ])('writes a rate of %d', (value, text) => expect(rate(value)).toBe(text));

  it('counts one thing and many', () => {
    expect([0, 1, 2_000].map((n) => counted(n, 'record'))).toEqual(['0 records', '1 record', '2,000 records']);
    expect(counted(2, 'entry', 'entries')).toBe('2 entries');
  });

  it('tells times from now in both directions', () => {
    const now = Date.parse('2026-11-24T10:00:00Z');
    expect(relative('2026-11-24T09:57:00Z', now)).toBe('3 min ago');
    expect(relative('2026-11-24T10:00:20Z', now)).toBe('in 20 s');
    expect(relative('no time', now)).toBe('no time');
  });

  it('tells what is left only when it can be known', () => {
    expect(timeLeft(1_000, 5_000, 100)).toBe('40 s');
    expect(timeLeft(1_000, 5_000, 0)).toBeNull();
    expect(timeLeft(5_000, 5_000, 10)).toBeNull();
  });
});
