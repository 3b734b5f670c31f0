import { expect, test } from 'vitest';

import { changed, counted, sent, source, toAsk, withSecret, type Plan, type Secret, type Step } from './manifests';

const password: Secret = {
  connection: 'packhouse',
  field: 'password',
  from: { env: 'PACKHOUSE_PASSWORD' } as never,
  needed: true,
};
const kept: Secret = { ...password, connection: 'settlement', from: { ask: true } as never, needed: false };

test('a secret is asked for where it cannot be done without, and stays while it is given', () => {
  const plan: Plan = { steps: [], unchanged: 0, tag: '', faults: [], secrets: [password, kept] };
  expect(toAsk(plan, {})).toEqual([password]);
  const given = withSecret({}, password, 'x');
  const after: Plan = { ...plan, secrets: [{ ...password, needed: false }, kept] };
  expect(toAsk(after, given).map((s) => s.connection)).toEqual(['packhouse']);
  expect(sent(given)).toEqual({ packhouse: { password: 'x' } });
  expect(sent(withSecret(given, password, ''))).toEqual({});
  expect([password, kept].map(source)).toEqual([
    "By command it comes from the environment's PACKHOUSE_PASSWORD.",
    'By command it is asked for.',
  ]);
});

test('steps are counted and changes are told', () => {
  const step = (deed: Step['deed']): Step => ({ deed, kind: 'topic', name: 'bins', changes: [], says: [] });
  expect(counted([step('make'), step('delete'), step('make')])).toEqual({ make: 2, change: 0, delete: 1 });
  expect(changed({ field: 'keep', to: 'latest' })).toBe('keep: latest');
  expect(changed({ field: 'keep', from: 'latest' })).toBe('keep: no more latest');
  expect(changed({ field: 'port', from: '1', to: '2' })).toBe('port: 1 → 2');
  expect(changed({ field: 'password' })).toBe('password: another one');
});
