import { expect, it } from 'vitest';

import { factsText } from './facts';
import { summary } from './LaneStrip';

it('lanes are counted by their states, and those without a runner apart', () => {
  const lane = (state: 'following' | 'halted', runner?: string) => ({ state, runner });
  expect(summary([lane('following', 'runner-1'), lane('halted', 'runner-1'), lane('following', 'runner-2')])).toBe(
    '3 lanes: 2 following, 1 halted',
  );
  expect(summary([lane('halted')])).toBe('One lane: 1 without a runner');
});

it('a line says its lane and runner once, then what it is about', () => {
  const line = { lane: 2, runner: 'runner-1', facts: { runner: 'runner-1', topic: 'packhouse.bins', offset: 7 } };
  expect(factsText(line as unknown as Parameters<typeof factsText>[0])).toBe(
    'lane 2 · on runner-1 · topic packhouse.bins · offset 7',
  );
});
