import type { Schemas } from '../../api/client';

/** What a line is about: the lane and runner, then its facts by name. */
export function factsText({ lane, runner, facts }: Pick<Schemas['Line'], 'lane' | 'runner' | 'facts'>): string {
  const named = Object.entries(facts as Record<string, unknown>)
    .filter(([name]) => name !== 'runner')
    .map(([name, value]) => `${name} ${typeof value === 'string' ? value : JSON.stringify(value)}`);
  return [`lane ${lane}`, ...(runner ? [`on ${runner}`] : []), ...named].join(' · ');
}
