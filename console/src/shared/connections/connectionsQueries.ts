import { answered, api, type Schemas } from '../../api/client';

export type Connection = Schemas['Connection'];
export type ConnectionRequest = Schemas['ConnectionRequest'];

export const connectionsQuery = {
  queryKey: ['connections'],
  queryFn: () => answered(api.GET('/api/v1/connections')),
};

export function createConnection(body: ConnectionRequest) {
  return answered(api.POST('/api/v1/connections', { body }));
}

export function replaceConnection(id: string, body: ConnectionRequest) {
  return answered(api.PUT('/api/v1/connections/{id}', { params: { path: { id } }, body }));
}

export function testUnsaved(body: ConnectionRequest) {
  return answered(api.POST('/api/v1/connections/test', { body }));
}

export function testSaved(id: string) {
  return answered(api.POST('/api/v1/connections/{id}/test', { params: { path: { id } } }));
}

export function removeConnection(id: string) {
  return answered(api.DELETE('/api/v1/connections/{id}', { params: { path: { id } } }));
}
