import { describe, expect, it } from 'vitest';

import { came, canBeCancelled, inOrder, parts, progress, type Operation } from './operations';

const operation = (part: Partial<Operation>): Operation => ({
  id: '1',
  kind: 'import',
  says: 'Imports a file into bins',
  state: 'running',
  cancelling: false,
  done: 0,
  unit: 'bytes',
  result: {},
  began_at: '2026-11-25T06:00:00Z',
  ...part,
});

describe('how far an operation is', () => {
  it.each([
    [{}, ''],
    [{ done: 2_500_000, total: 5_000_000, left_ms: 4_000 }, '2.5 MB of 5.0 MB, 4.0 s left'],
    [{ kind: 'apply', unit: 'steps', done: 2, total: 9 }, '2 of 9 steps'],
    [{ kind: 'apply', unit: 'steps', done: 1, total: 1, state: 'done' }, '1 step'],
    [{ kind: 'load_again', unit: 'rows', done: 1_200, total: 4_000 }, '1,200 of about 4,000 rows'],
    [{ kind: 'load_again', unit: 'rows', done: 4_000, total: 4_000, state: 'done' }, 'about 4,000 rows'],
    [{ kind: 'retry', unit: 'records', done: 1, total: 3, left_ms: 20 }, '1 of 3 records, 1.0 s left'],
    [{ kind: 'delete', unit: 'steps', done: 0, total: 1 }, ''],
  ] as [Partial<Operation>, string][])('%j', (part, said) => expect(progress(operation(part))).toBe(said));
});

it('tells what came of it, and nothing where nothing did', () => {
  expect(came(operation({ result: { delivered: 1, superseded: 0, waiting: 2 } }))).toEqual([
    '1 record delivered',
    '2 records failed again',
  ]);
  expect(came(operation({ result: { remains: ['the publication gonvel_7'] } }))).toEqual([
    'There stays: the publication gonvel_7',
  ]);
  expect(came(operation({}))).toEqual([]);
});

it('has what is being done before what ended, the newest first', () => {
  const all = [operation({ id: '1' }), operation({ id: '3', state: 'done' }), operation({ id: '2' })];
  const { running, ended } = inOrder(all);
  expect([...running, ...ended].map(({ id }) => id)).toEqual(['2', '1', '3']);
});

it('names its subject where it is told', () => {
  const subject = { kind: 'topic', name: 'bins' } as const;
  expect(parts(operation({ subject }))).toEqual(['Imports a file into ', 'bins', '']);
  expect(parts(operation({ subject: { kind: 'topic', name: 'lots' } }))).toEqual(['Imports a file into bins', '', '']);
  expect(parts(operation({}))).toEqual(['Imports a file into bins', '', '']);
});

it('offers to cancel what can be', () => {
  expect(canBeCancelled(operation({}))).toBe(true);
  expect(canBeCancelled(operation({ kind: 'delete' }))).toBe(false);
  expect(canBeCancelled(operation({ cancelling: true }))).toBe(false);
  expect(canBeCancelled(operation({ state: 'failed' }))).toBe(false);
});
