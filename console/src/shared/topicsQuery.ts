import { answered, api, everything } from '../api/client';

/** All topics with what they hold and who uses them. */
export const topicsQuery = {
  queryKey: ['topics'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/topics', { params: { query } }))),
};
