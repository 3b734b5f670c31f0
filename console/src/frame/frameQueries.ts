import { answered, api, type Schemas } from '../api/client';

export const workloadQuery = {
  queryKey: ['workload'],
  queryFn: () => answered(api.GET('/api/v1/demo/workload')),
};

export function switchWorkload(body: Schemas['WorkloadRequest']) {
  return answered(api.PUT('/api/v1/demo/workload', { body }));
}
