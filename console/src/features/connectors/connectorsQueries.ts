import { answered, api, asPlanned, everything, type Plan, type Schemas } from '../../api/client';
import type { paths } from '../../api/types';

export type Action = Schemas['Action'];

export function act(id: string, body: Schemas['ActionRequest']) {
  return answered(api.POST('/api/v1/connectors/{connector}/actions', { params: { path: { connector: id } }, body }));
}

/** What an action on several connectors would do; nothing is changed. */
export function planOnMany(connectors: string[], action: Action) {
  const params = { query: asPlanned(null) };
  return answered(api.POST('/api/v1/connectors/actions', { params, body: { connectors, action } })) as Promise<Plan>;
}

export function actOnMany(connectors: string[], action: Action) {
  const asked = api.POST('/api/v1/connectors/actions', { body: { connectors, action } });
  return answered(asked) as Promise<Schemas['ActionOutcome'][]>;
}

type LinesQuery = NonNullable<paths['/api/v1/connectors/{connector}/log']['get']['parameters']['query']>;

export function linesQuery(id: string, query: LinesQuery) {
  return {
    queryKey: ['connector', id, 'log', query],
    queryFn: () =>
      answered(api.GET('/api/v1/connectors/{connector}/log', { params: { path: { connector: id }, query } })).then(
        (page) => page.items,
      ),
  };
}

export function historyQuery(id: string) {
  return {
    queryKey: ['connector', id, 'history'],
    queryFn: () =>
      answered(
        api.GET('/api/v1/connectors/{connector}/history', {
          params: { path: { connector: id }, query: { limit: 200 } },
        }),
      ).then((page) => page.items),
  };
}

/** Deletes a connector as planned; without a tag tells what that would do. */
/** Deletes it as planned; without a tag tells what that would do. Where its system is gone for good, what it left there stays. */
export function remove(id: string, leaveRemains: boolean, tag: string | null) {
  const params = { path: { connector: id }, query: { ...asPlanned(tag), leave_remains: leaveRemains } };
  return answered(api.DELETE('/api/v1/connectors/{connector}', { params }));
}

export function preflightQuery(id: string) {
  return {
    queryKey: ['connector', id, 'preflight'],
    queryFn: () =>
      answered(api.GET('/api/v1/connectors/{connector}/preflight', { params: { path: { connector: id } } })),
  };
}

export function checkAgain(id: string) {
  return answered(api.POST('/api/v1/connectors/{connector}/preflight', { params: { path: { connector: id } } }));
}

export function mendFor({ name, definition }: Schemas['Connector'], check: string) {
  const body = { connector: { name, definition, start: true }, check };
  return answered(api.POST('/api/v1/connectors/preflight/mend', { body }));
}

export function versionsQuery(id: string, version: number) {
  return {
    queryKey: ['connector', id, 'versions', version],
    queryFn: () =>
      everything((query) =>
        answered(api.GET('/api/v1/connectors/{connector}/versions', { params: { path: { connector: id }, query } })),
      ),
  };
}

export function loadAgain(id: string, table: string, existingRows: Schemas['ExistingRows']) {
  const body = { tables: [table], existing_rows: existingRows };
  return answered(api.POST('/api/v1/connectors/{connector}/reload', { params: { path: { connector: id } }, body }));
}

export function positionsQuery(id: string) {
  return {
    queryKey: ['connector', id, 'positions'],
    queryFn: () =>
      answered(api.GET('/api/v1/connectors/{connector}/positions', { params: { path: { connector: id } } })),
  };
}

/** Moves what reads topics as planned; without a tag tells what that would do. */
export function moveSink(id: string, body: Schemas['Reposition'], tag: string | null) {
  const params = { path: { connector: id }, query: asPlanned(tag) };
  return answered(api.POST('/api/v1/connectors/{connector}/positions', { params, body })) as Promise<Plan>;
}

export function beginAnew(id: string, existingRows: Schemas['ExistingRows']) {
  const body = { existing_rows: existingRows };
  return answered(api.POST('/api/v1/connectors/{connector}/begin-anew', { params: { path: { connector: id } }, body }));
}

export const draftsQuery = {
  queryKey: ['drafts'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/drafts', { params: { query } }))),
};

export function discardDraft(id: string) {
  return answered(api.DELETE('/api/v1/drafts/{id}', { params: { path: { id } } }));
}
