import { answered, api, everything } from '../api/client';
import { current } from './changes';

/** All topics with what they hold and who uses them. */
export const topicsQuery = {
  queryKey: ['topics'],
  queryFn: () =>
    current('topic', () => everything((query) => answered(api.GET('/api/v1/topics', { params: { query } })))),
};
