import { answered, api, type Schemas } from '../../api/client';

export function tablesQuery(connection: string | null) {
  return {
    queryKey: ['tables', connection],
    queryFn: () => answered(api.GET('/api/v1/connections/{id}/tables', { params: { path: { id: connection ?? '' } } })),
    enabled: connection !== null,
    retry: false,
  };
}

export function create(body: Schemas['ConnectorRequest']) {
  return answered(api.POST('/api/v1/connectors', { body }));
}

export function preflight(body: Schemas['ConnectorRequest']) {
  return answered(api.POST('/api/v1/connectors/preflight', { body }));
}

export function mend(body: Schemas['MendRequest']) {
  return answered(api.POST('/api/v1/connectors/preflight/mend', { body }));
}
