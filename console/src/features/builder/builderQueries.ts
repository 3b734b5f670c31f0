import { answered, api, at, everything, type Schemas } from '../../api/client';

export function tablesQuery(connection: string | null) {
  return {
    queryKey: ['tables', connection],
    queryFn: () =>
      everything((query) =>
        answered(
          api.GET('/api/v1/connections/{connection}/tables', {
            params: { path: { connection: connection ?? '' }, query },
          }),
        ),
      ),
    enabled: connection !== null,
    retry: false,
    // what the database has may have changed since another page asked: a table that is gone must not look as if it were there
    staleTime: 0,
  };
}

/** A few rows of a table as they are now, and the records they would become. */
export function sampleQuery(connection: string | null, body: Schemas['SampleRequest'] | null) {
  return {
    queryKey: ['sample', connection, body],
    queryFn: () => {
      if (connection === null || body === null) throw new Error('there is no table to take a sample of');
      return answered(
        api.POST('/api/v1/connections/{connection}/sample', { params: { path: { connection: connection } }, body }),
      );
    },
    enabled: connection !== null && body !== null,
    // rows change under the sample: it is taken anew while someone looks at it
    refetchInterval: 5000,
    retry: false,
  };
}

/** How a topic's newest records become rows: as asked, or as the server proposes. */
export function triedRowsQuery(topic: string, body: Schemas['TryEventRows']) {
  return {
    queryKey: ['event rows', topic, body],
    queryFn: () => answered(api.POST('/api/v1/topics/{name}/event-rows', { params: { path: { name: topic } }, body })),
    retry: false,
    refetchOnWindowFocus: false,
  };
}

/** What a topic's newest records become in a target. */
export function deliveryQuery(topic: string | null, writes: Schemas['Writes'], rows: Schemas['EventRows'] | undefined) {
  return {
    queryKey: ['delivery', topic, writes, rows],
    queryFn: () =>
      answered(
        api.POST('/api/v1/topics/{name}/delivery-sample', {
          params: { path: { name: topic ?? '' } },
          body: rows ? { writes, rows } : { writes },
        }),
      ),
    enabled: topic !== null,
    refetchInterval: 3000,
    retry: false,
  };
}

/** The newest records of a topic. */
export function newestQuery(topic: string | null) {
  return {
    queryKey: ['newest', topic],
    queryFn: () =>
      answered(
        api.GET('/api/v1/topics/{name}/records', {
          params: { path: { name: topic ?? '' }, query: { order: 'newest', limit: 3 } },
        }),
      ),
    enabled: topic !== null,
    refetchInterval: 3000,
    retry: false,
  };
}

export function connectorQuery(id: string | undefined) {
  return {
    queryKey: ['connector', id, 'definition'],
    queryFn: () => answered(api.GET('/api/v1/connectors/{connector}', { params: { path: { connector: id ?? '' } } })),
    enabled: id !== undefined,
    staleTime: Infinity,
    gcTime: 0,
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

export function readManifest(text: string) {
  return answered(api.POST('/api/v1/manifests/read', { body: { text } }));
}

export function writeManifest(body: Schemas['NamedDefinition']) {
  return answered(api.POST('/api/v1/manifests/write', { body }));
}

/** An unfinished draft, read once: what it holds is the builder's from then on. */
export function draftQuery(id: string) {
  return {
    queryKey: ['draft', id],
    queryFn: () => answered(api.GET('/api/v1/drafts/{id}', { params: { path: { id } } })),
    staleTime: Infinity,
    gcTime: 0,
    retry: false,
  };
}

/** Saves an unfinished draft: anew, or as the next revision of one that is kept. */
export function saveDraft({ kept, body }: { kept?: { id: string; revision: number }; body: Schemas['DraftRequest'] }) {
  if (!kept) return answered(api.POST('/api/v1/drafts', { body }));
  const params = { path: { id: kept.id }, header: at(kept.revision) };
  return answered(api.PUT('/api/v1/drafts/{id}', { params, body }));
}
