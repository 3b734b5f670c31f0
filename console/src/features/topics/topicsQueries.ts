import { answered, api, type Schemas } from '../../api/client';
import type { View } from './view';

export type TopicRecord = Schemas['Record'];

export const topicsQuery = {
  queryKey: ['topics'],
  queryFn: () => answered(api.GET('/api/v1/topics')),
  refetchInterval: 2_000,
};

export function topicQuery(name: string) {
  return {
    queryKey: ['topic', name],
    queryFn: () => answered(api.GET('/api/v1/topics/{name}', { params: { path: { name } } })),
    refetchInterval: 2_000,
  };
}

/** One page of records, and where the next one begins. */
export function readRecords(name: string, view: View, from: number | null) {
  const query = {
    order: view.order,
    partition: view.partition ?? undefined,
    offset: from ?? view.offset ?? undefined,
    time: from === null ? (view.time ?? undefined) : undefined,
  };
  return answered(api.GET('/api/v1/topics/{name}/records', { params: { path: { name }, query } }));
}

export function tailUrl(name: string): string {
  return `/api/v1/topics/${encodeURIComponent(name)}/tail`;
}
