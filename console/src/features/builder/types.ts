/** Topics whose events are of several types: a connector reads such a topic once for each table or topic that its events go to. */
import type { Schemas } from '../../api/client';
import type { EventRows } from './eventRows';

export type Only = Schemas['Only'];

/** What a connector calls what it reads: the topic, with the types of its events where it reads those only. */
export function readName(topic: string, only: Only | null | undefined): string {
  if (!only) return topic;
  const is = only.is ?? [];
  return is.length > 0 ? `${topic} [${is.join(', ')}]` : `${topic} [not ${(only.is_not ?? []).join(', ')}]`;
}

/** The topic of such a name: no topic's own has a space. */
export const topicOf = (name: string): string => name.split(' ', 1)[0] ?? name;

/** The types of such a name, as it says them; nothing where all events are read. */
export const typesOf = (name: string): string => name.slice(topicOf(name).length).trim();

/** The topics of such names, each once. */
export const topicsOf = (names: readonly string[]): string[] => [...new Set(names.map(topicOf))];

/** What of the names is of a topic. */
export const ofTopic = (names: readonly string[], topic: string): string[] =>
  names.filter((name) => topicOf(name) === topic);

/** What says the types of a topic's events, in words. */
export const toldBy = ({ part, path }: Pick<Schemas['SeenTypes'], 'part' | 'path'>): string =>
  part === 'header' ? `header ${path[0] ?? ''}` : `field ${path.join(' › ')}`;

/** One of the parts that a topic is read in: events of some types, or all others. */
export interface Part {
  only: Only;
  /** Of what its table or topic is named after. */
  after: string;
}

/** The parts for some types, each a part of its own, and one for all others where they are read too. */
export function partsFor(seen: Schemas['SeenTypes'], types: readonly string[], others: boolean, topic: string): Part[] {
  const told = { part: seen.part, path: seen.path };
  const parts: Part[] = types.map((type) => ({ only: { ...told, is: [type] }, after: type }));
  const rest = { only: { ...told, is_not: [...types] }, after: `${topic}_others` };
  return others ? [...parts, rest] : parts;
}

/** The types that are read of a topic, as they were split before; nothing where it is read as a whole. */
export function splitOf(rows: readonly (EventRows | undefined)[]): { types: string[]; others: boolean } | null {
  const parts = rows.flatMap((one) => (one?.only ? [one.only] : []));
  if (parts.length === 0) return null;
  return {
    types: parts.flatMap((only) => only.is ?? []),
    others: parts.some((only) => (only.is_not ?? []).length > 0),
  };
}
