import { answered, api, type Schemas } from '../api/client';

export const healthQuery = {
  queryKey: ['health'],
  queryFn: () => answered(api.GET('/api/v1/health')),
  staleTime: 60_000,
};

export const workloadQuery = {
  queryKey: ['workload'],
  queryFn: () => answered(api.GET('/api/v1/demo/workload')),
};

export function switchWorkload(body: Schemas['WorkloadRequest']) {
  return answered(api.PUT('/api/v1/demo/workload', { body }));
}
