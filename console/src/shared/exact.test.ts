import { describe, expect, it } from 'vitest';

import { isExact, parseExact } from './exact';

describe('numbers that the browser cannot hold', () => {
  it('keep their digits, and others stay numbers', () => {
    const text =
      '{"id":12345678901234567890123,"kg":1234567890123456.78,"small":1.5,"safe":9007199254740991,"list":[0.1,-0.12345678901234567891]}';
    const value = parseExact(text) as Record<string, unknown>;
    expect([value.small, value.safe]).toEqual([1.5, 9007199254740991]);
    if (!('rawJSON' in JSON)) return;
    expect(isExact(value.id) && value.id.rawJSON).toBe('12345678901234567890123');
    expect(JSON.stringify(value)).toBe(text);
    expect(isExact({ rawJSON: '1' })).toBe(false);
  });
});
