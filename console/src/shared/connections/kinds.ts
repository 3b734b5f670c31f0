/** Kinds of systems, and what they can do: what a kind does not declare is not offered. */
import { useQuery } from '@tanstack/react-query';

import type { Schemas } from '../../api/client';
import { connectionsQuery, kindsQuery, type Kind } from './connectionsQueries';

export type { Kind };
export type Role = 'source' | 'sink';
export type SourceAbilities = Schemas['SourceAbilities'];
export type SinkAbilities = Schemas['SinkAbilities'];

/** Whether a kind can be used for something; for either where that is not said, and one that is not known for anything. */
export function kindFor(kind: Kind | null, role: Role | undefined): boolean {
  if (role === undefined || kind === null) return true;
  return role === 'source' ? kind.source != null : kind.sink != null;
}

/** The kind of a connection's system; undefined while it is not known. */
export function useKindOf(connection: string | undefined): Kind | undefined {
  const connections = useQuery(connectionsQuery);
  const kinds = useQuery(kindsQuery);
  const word = connections.data?.find((c) => c.id === connection)?.kind;
  return kinds.data?.find((k) => k.kind === word);
}
