import { describe, expect, it } from 'vitest';

import { breachTitle, grouped, ruleMeaning, ruleShort, versionsSaid } from './words';

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
    const rule = { reads_past: reads, past_reads: read };
    expect(ruleMeaning(rule)).toContain(meaning);
    expect(ruleShort(rule)).toContain(short);
  });
});

describe('breaches', () => {
  const misfit = (path: string) => ({ path, rule: 'r', finding: 'f', remedy: 'm', unknown: false });
  it('with the same findings are told once, for all their versions', () => {
    const breaches = [1, 2, 3, 5].map((version) => ({ half: 'reads_past', version, misfits: [misfit('$.a')] }));
    const other = { half: 'reads_past', version: 4, misfits: [misfit('$.b')] };
    const past = { half: 'past_reads', version: 5, misfits: [misfit('$.a')] };
    expect(grouped([...breaches, other, past]).map(breachTitle)).toEqual([
      'It cannot read what versions 1 to 3, 5 wrote',
      'It cannot read what version 4 wrote',
      'Version 5 cannot read what it writes',
    ]);
    expect(versionsSaid([2, 1])).toBe('versions 1 and 2');
    const unknown = { half: 'reads_past', version: 4, misfits: [{ ...misfit('$.b'), unknown: true }] };
    expect(grouped([unknown]).map(breachTitle)).toEqual(['Whether it can read what version 4 wrote cannot be judged']);
  });
});
