import { answered, api } from '../api/client';

/** All topics with what they hold and who uses them. A page that shows their figures asks again on its own. */
export const topicsQuery = {
  queryKey: ['topics'],
  queryFn: () => answered(api.GET('/api/v1/topics')),
};
