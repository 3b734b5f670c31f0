import { answered, api, asPlanned, at, everything, type Plan, type Schemas } from '../../api/client';

export type Connection = Schemas['Connection'];
export type ConnectionRequest = Schemas['ConnectionRequest'];
export type Kind = Schemas['SystemKind'];
export type Setting = Schemas['Setting'];

export const connectionsQuery = {
  queryKey: ['connections'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/connections', { params: { query } }))),
};

/** The kinds of systems with the settings of each. They do not change while the page is open. */
export const kindsQuery = {
  queryKey: ['kinds'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/kinds', { params: { query } }))),
  staleTime: Infinity,
};

export function createConnection(body: ConnectionRequest) {
  return answered(api.POST('/api/v1/connections', { body }));
}

export function replaceConnection({ id, revision }: Connection, body: ConnectionRequest) {
  const params = { path: { connection: id }, header: at(revision) };
  return answered(api.PUT('/api/v1/connections/{connection}', { params, body }));
}

export function testUnsaved(body: ConnectionRequest) {
  return answered(api.POST('/api/v1/connections/test', { body }));
}

export function testSaved(id: string) {
  return answered(api.POST('/api/v1/connections/{connection}/test', { params: { path: { connection: id } } }));
}

/** Deletes a connection as planned; without a tag tells what that would do. */
export function removeConnection(id: string, tag: string | null) {
  const params = { path: { connection: id }, query: asPlanned(tag) };
  return answered(api.DELETE('/api/v1/connections/{connection}', { params })) as Promise<Plan>;
}
