import { expect, test } from 'vitest';

import type { Connection, Kind, Setting } from './connectionsQueries';
import { fieldsOf, headed, isOfUse, lines, requestOf } from './form';

function setting(name: string, takes: Setting['takes'], more: Partial<Setting> = {}): Setting {
  return { name, label: name, help: '', takes, needed: false, secret: false, beside: false, ...more };
}

const kind: Kind = {
  kind: 'postgresql',
  name: 'PostgreSQL',
  says: '',
  settings: [
    setting('host', { is: 'text' }, { needed: true, usual: '127.0.0.1' }),
    setting('port', { is: 'whole', least: 1, most: 65_535 }, { needed: true, usual: '5432', beside: true }),
    setting('user', { is: 'text' }, { needed: true }),
    setting('password', { is: 'text' }, { secret: true, beside: true }),
    setting('tls', { is: 'choice', choices: [] }, { usual: 'prefer' }),
    setting('ca', { is: 'lines' }, { only_if: { setting: 'tls', is: ['verify'] } }),
    setting('settings', { is: 'pairs' }),
  ],
};

test('a form begins with what is usual, or with what is there, and sends what was given', () => {
  const fresh = fieldsOf(kind, undefined);
  expect(fresh).toMatchObject({ host: '127.0.0.1', port: '5432', tls: 'prefer', user: undefined, settings: '' });
  expect(requestOf('packhouse', kind, { ...fresh, password: 'x', settings: 'lock_timeout=5s' })).toEqual({
    name: 'packhouse',
    kind: 'postgresql',
    host: '127.0.0.1',
    port: 5432,
    // needed and empty: the server says so
    user: '',
    password: 'x',
    tls: 'prefer',
    settings: { lock_timeout: '5s' },
  });
  const there = {
    host: 'db',
    port: 5433,
    user: 'gonvel',
    tls: 'verify',
    settings: { a: 'b' },
  } as unknown as Connection;
  const kept = fieldsOf(kind, there);
  expect(kept).toMatchObject({ host: 'db', port: '5433', tls: 'verify', password: undefined, settings: 'a=b' });
  // a kept secret is not sent
  expect(requestOf('packhouse', kind, kept)).not.toHaveProperty('password');
  // what was typed and is of no use any more is not sent either
  expect(requestOf('packhouse', kind, { ...kept, ca: 'PEM' })).toHaveProperty('ca', 'PEM');
  expect(requestOf('packhouse', kind, { ...kept, tls: 'off', ca: 'PEM' })).not.toHaveProperty('ca');
});

test('settings stand in lines and under headings, and some are of use only with others', () => {
  expect(lines(kind.settings).map((line) => line.map((s) => s.name))).toEqual([
    ['host', 'port'],
    ['user', 'password'],
    ['tls'],
    ['ca'],
    ['settings'],
  ]);
  const under = (name: string, heading: string) => setting(name, { is: 'text' }, { under: heading });
  const few = [...kind.settings, under('log_user', 'Login'), under('through', 'The way'), under('log', 'Login')];
  expect(headed(few).map(([heading, all]) => [heading, ...all.map((s) => s.name)])).toEqual([
    ['Login', 'log_user', 'log'],
    ['The way', 'through'],
  ]);
  const ca = kind.settings[5] as Setting;
  expect(isOfUse(ca, { tls: 'prefer' })).toBe(false);
  expect(isOfUse(ca, { tls: 'verify' })).toBe(true);
  const one = { setting: 'through', is: ['http_proxy', 'jump_host'] };
  const user = setting('through_user', { is: 'text' }, { only_if: one });
  expect(['directly', 'http_proxy', 'jump_host', undefined].map((through) => isOfUse(user, { through }))).toEqual([
    false,
    true,
    true,
    false,
  ]);
  const itsPassword = setting('log_password', { is: 'text' }, { only_if: { setting: 'log_user' } });
  expect(isOfUse(itsPassword, { log_user: '' })).toBe(false);
  expect(isOfUse(itsPassword, { log_user: 'tail' })).toBe(true);
});
