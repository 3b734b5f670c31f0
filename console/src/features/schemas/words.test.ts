import { describe, expect, it } from 'vitest';

import { ruleMeaning, ruleShort } from './words';

describe('a rule', () => {
  it.each([
    ['off', 'off', 'nothing is checked', 'no rule'],
    [
      'latest',
      'off',
      'must read what was written with the version before it. Change readers first',
      'reads past: latest',
    ],
    ['off', 'all', 'must be readable by all earlier versions. Change writers first', 'past reads: all'],
    ['all', 'all', 'A new version and all earlier versions must read each other.', 'reads past: all, past reads: all'],
    [
      'all',
      'latest',
      'with all earlier versions, and the version before it must be able to read it',
      'past reads: latest',
    ],
  ] as const)('%s and %s says what it means', (reads, read, meaning, short) => {
    const rule = { 'reads-past': reads, 'past-reads': read };
    expect(ruleMeaning(rule)).toContain(meaning);
    expect(ruleShort(rule)).toContain(short);
  });
});
