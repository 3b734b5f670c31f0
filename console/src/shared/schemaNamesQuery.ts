import { answered, api, everything } from '../api/client';

/** Schemas to choose from; where there are more than these, the page of schemas searches them all. */
export const schemaNamesQuery = {
  queryKey: ['schemas', 'names'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/schemas', { params: { query } })), 1000),
};
