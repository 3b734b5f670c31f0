import { answered, api } from '../api/client';

/** How the server is. */
export const healthQuery = {
  queryKey: ['health'],
  queryFn: () => answered(api.GET('/api/v1/health')),
  staleTime: 60_000,
};
