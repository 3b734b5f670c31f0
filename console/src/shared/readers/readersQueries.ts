import { answered, api, asPlanned, everything, type Plan, type Schemas } from '../../api/client';
import { current } from '../changes';

export type Reader = Schemas['Reader'];
export type Target = Schemas['Target'];

export const readersQuery = {
  queryKey: ['readers'],
  queryFn: () =>
    current('reader', () => everything((query) => answered(api.GET('/api/v1/readers', { params: { query } })))),
};

export function createReader(body: Schemas['NewReader']) {
  return answered(api.POST('/api/v1/readers', { body }));
}

/** Lets a reader read other topics as planned; without a tag tells what that would do. */
export function changeTopics(name: string, body: Schemas['ReaderTopics'], tag: string | null) {
  const params = { path: { name }, query: asPlanned(tag) };
  return answered(api.PUT('/api/v1/readers/{name}/topics', { params, body })) as Promise<Plan>;
}

/** Deletes a reader as planned; without a tag tells what that would do. */
export function removeReader(name: string, tag: string | null) {
  const params = { path: { name }, query: asPlanned(tag) };
  return answered(api.DELETE('/api/v1/readers/{name}', { params }));
}

export interface Where {
  target: Target;
  topic: string | null;
  partition: number | null;
}

/** Moves a reader as planned; without a tag tells what that would do. */
export function reposition(name: string, body: Where, tag: string | null) {
  const params = { path: { name }, query: asPlanned(tag) };
  return answered(api.POST('/api/v1/readers/{name}/reposition', { params, body })) as Promise<Plan>;
}
