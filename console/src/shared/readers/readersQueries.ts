import { answered, api, everything, type Schemas } from '../../api/client';

export type Reader = Schemas['Reader'];
export type Target = Schemas['Target'];
export type Moves = Schemas['Moves'];

export const readersQuery = {
  queryKey: ['readers'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/readers', { params: { query } }))),
  refetchInterval: 2_000,
};

export function createReader(body: Schemas['NewReader']) {
  return answered(api.POST('/api/v1/readers', { body }));
}

export function changeTopics(name: string, body: Schemas['ReaderTopics']) {
  return answered(api.PUT('/api/v1/readers/{name}/topics', { params: { path: { name } }, body }));
}

export function removeReader(name: string) {
  return answered(api.DELETE('/api/v1/readers/{name}', { params: { path: { name } } }));
}

export interface Where {
  target: Target;
  topic: string | null;
  partition: number | null;
}

/** What a move does; with the moves that were shown it is done. */
export function reposition(name: string, where: Where, shown: Moves | null) {
  const confirmed = shown?.moves.map(({ topic, partition, from, to }) => ({ topic, partition, from, to }));
  const body = { target: where.target, topic: where.topic, partition: where.partition, confirmed };
  return answered(api.POST('/api/v1/readers/{name}/reposition', { params: { path: { name } }, body }));
}
