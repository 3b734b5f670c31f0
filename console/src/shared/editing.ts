/** Another definition for a connector: what it would do, and its making. */
import { answered, api, asPlanned, at, type Plan, type Schemas } from '../api/client';

type Change = Schemas['ConnectorChange'];

/** What it would do; nothing is changed. */
export function planChange(id: string, version: number, body: Change) {
  const params = { path: { connector: id }, header: at(version), query: asPlanned(null) };
  return answered(api.PUT('/api/v1/connectors/{connector}', { params, body })) as Promise<Plan>;
}

/** Makes it the next version, as the plan with this tag showed. */
export function changeTo(id: string, version: number, body: Change, tag: string) {
  const params = { path: { connector: id }, header: at(version), query: asPlanned(tag) };
  return answered(api.PUT('/api/v1/connectors/{connector}', { params, body }));
}
