import { answered, api, everything, type Schemas } from '../api/client';

export type Producer = Schemas['Producer'];

/** Applications that append, to all topics or to one. */
export function producersQuery(topic?: string) {
  return {
    queryKey: ['producers', topic ?? null],
    queryFn: () =>
      everything((paging) => answered(api.GET('/api/v1/producers', { params: { query: { ...paging, topic } } }))),
    refetchInterval: 5_000,
  };
}

/** What a producer is called, also where it gives no name. */
export function calledProducer(name: string): string {
  return name === '' ? 'an application without a name' : name;
}
