import type { Schemas } from '../../api/client';

/** How a runner is, as a word and a tone. */
export function conditionOf({ alive, draining, lanes }: Pick<Schemas['Runner'], 'alive' | 'draining' | 'lanes'>): {
  word: string;
  tone: 'well' | 'warn' | 'quiet';
} {
  if (!alive) return { word: 'gone', tone: 'warn' };
  if (!draining) return { word: 'carries', tone: 'well' };
  return lanes.length === 0
    ? { word: 'empty: it can be stopped', tone: 'quiet' }
    : { word: 'being emptied', tone: 'quiet' };
}
