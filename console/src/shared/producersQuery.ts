import { answered, api, type Schemas } from '../api/client';

export type Producer = Schemas['Producer'];

/** Applications that append, to all topics or to one. */
export function producersQuery(topic?: string) {
  return {
    queryKey: ['producers', topic ?? null],
    queryFn: () => answered(api.GET('/api/v1/producers', { params: { query: topic === undefined ? {} : { topic } } })),
    refetchInterval: 5_000,
  };
}

/** What a producer is called, also where it gives no name. */
export function calledProducer(name: string): string {
  return name === '' ? 'an application without a name' : name;
}
