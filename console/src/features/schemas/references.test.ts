import { expect, it } from 'vitest';

import { choicesOf, referencesOf } from './references';
import type { Summary } from './schemasQueries';

const known = [
  { name: 'lot', language: 'protobuf', version: 3 },
  { name: 'room', language: 'protobuf', version: 1 },
  { name: 'event', language: 'avro', version: 2 },
  { name: 'empty', language: 'protobuf', version: null },
] as Summary[];

it('what can be referred to is of the same language; an earlier version that is referred to stays', () => {
  expect(choicesOf(known, 'protobuf', 'room', [{ name: 'lot', version: 1 }])).toEqual(['lot:1', 'lot:3']);
  expect(choicesOf(known, 'avro', 'event', [])).toEqual([]);
});

it('of two versions of one schema the one chosen last counts', () => {
  expect(referencesOf(['lot:1', 'room:1', 'lot:3'])).toEqual([
    { name: 'room', version: 1 },
    { name: 'lot', version: 3 },
  ]);
});
