import {
  answered,
  api,
  asPlanned,
  at,
  everything,
  postText,
  type Page,
  type Plan,
  type Schemas,
} from '../../api/client';
import { parseExact } from '../../shared/exact';
import type { View } from './view';

export type TopicRecord = Schemas['Record'];
export type Topic = Schemas['Topic'];
export type TopicSettings = Schemas['TopicSettings'];

export const keeperQuery = {
  queryKey: ['keeper'],
  queryFn: () => answered(api.GET('/api/v1/keeper')),
  refetchInterval: 5_000,
};

/** A few of a topic's newest records, read once. */
export function newestQuery(name: string) {
  return {
    queryKey: ['topic', name, 'newest'],
    queryFn: () =>
      answered(
        api.GET('/api/v1/topics/{name}/records', {
          params: { path: { name }, query: { order: 'newest', limit: 3 } },
        }),
      ),
    staleTime: 10_000,
  };
}

export function topicQuery(name: string) {
  return {
    queryKey: ['topic', name],
    queryFn: () => answered(api.GET('/api/v1/topics/{name}', { params: { path: { name } } })),
  };
}

export function historyQuery(name: string) {
  return {
    queryKey: ['topic', name, 'history'],
    queryFn: () =>
      everything((query) => answered(api.GET('/api/v1/topics/{name}/history', { params: { path: { name }, query } }))),
    refetchInterval: 15_000,
  };
}

export function schemasQuery(name: string) {
  return {
    queryKey: ['topic', name, 'schemas'],
    queryFn: () =>
      everything((query) => answered(api.GET('/api/v1/topics/{name}/schemas', { params: { path: { name }, query } }))),
  };
}

/** Which version of which schema has a number; that never changes. */
export function schemaOfRecordQuery(id: number) {
  return {
    queryKey: ['schema-version', id],
    queryFn: () => answered(api.GET('/api/v1/schema-versions/{id}', { params: { path: { id } } })),
    staleTime: Infinity,
    retry: false,
  };
}

/** Binds a topic's keys or values to a schema, or lets go of it. */
export function bindSchema(name: string, role: string, schema: string | null, required: boolean) {
  const params = { path: { name, role } };
  return schema === null
    ? answered(api.DELETE('/api/v1/topics/{name}/schemas/{role}', { params }))
    : answered(api.PUT('/api/v1/topics/{name}/schemas/{role}', { params, body: { schema, required } }));
}

/** One page of records, and where the next one begins. */
export function readRecords(name: string, view: View, from: string | null) {
  const query = {
    order: view.order,
    partition: view.partition ?? undefined,
    offset: view.offset ?? undefined,
    time: view.time ?? undefined,
    key: view.key ?? undefined,
    raw: true,
    limit: 50,
    cursor: from ?? undefined,
  };
  // figures keep their digits
  const asked = api.GET('/api/v1/topics/{name}/records', { params: { path: { name }, query }, parseAs: 'text' });
  return answered<string>(asked).then((text) => parseExact(text) as Page<TopicRecord>);
}

export function tailUrl(name: string): string {
  return `/api/v1/topics/${encodeURIComponent(name)}/tail?raw=true`;
}

export function searchUrl(name: string, view: View): string {
  const query = new URLSearchParams({ filter: view.filter ?? '', raw: 'true' });
  if (view.partition !== null) query.set('partition', String(view.partition));
  if (view.time !== null) query.set('time', view.time);
  return `/api/v1/topics/${encodeURIComponent(name)}/search?${query.toString()}`;
}

export function exportUrl(name: string, form: string, view: View): string {
  const query = new URLSearchParams({ form });
  if (view.partition !== null) query.set('partition', String(view.partition));
  return `/api/v1/topics/${encodeURIComponent(name)}/export?${query.toString()}`;
}

export function createTopic(body: Schemas['NewTopic']) {
  return answered(api.POST('/api/v1/topics', { body }));
}

/** What new settings would do; nothing is changed. */
export function planChange(name: string, revision: number, settings: TopicSettings) {
  const params = { path: { name }, header: at(revision), query: asPlanned(null) };
  return answered(api.PUT('/api/v1/topics/{name}/settings', { params, body: settings })) as Promise<Plan>;
}

export function changeTopic(name: string, revision: number, settings: TopicSettings, tag: string) {
  const params = { path: { name }, header: at(revision), query: asPlanned(tag) };
  return answered(api.PUT('/api/v1/topics/{name}/settings', { params, body: settings })) as Promise<Topic>;
}

export function planPartitions(name: string, partitions: number) {
  const params = { path: { name }, query: asPlanned(null) };
  return answered(api.POST('/api/v1/topics/{name}/partitions', { params, body: { partitions } })) as Promise<Plan>;
}

export function addPartitions(name: string, partitions: number, tag: string) {
  const params = { path: { name }, query: asPlanned(tag) };
  return answered(api.POST('/api/v1/topics/{name}/partitions', { params, body: { partitions } })) as Promise<Topic>;
}

/** Deletes a topic as planned; without a tag tells what that would do. */
export function deleteTopic(name: string, tag: string | null) {
  const params = { path: { name }, query: asPlanned(tag) };
  return answered(api.DELETE('/api/v1/topics/{name}', { params })) as Promise<Plan>;
}

/** Appends one record and says where it is. The value is sent as the text it is. */
export async function appendRecord(name: string, record: string, latest: boolean): Promise<Schemas['Appended']> {
  const query = `?producer=console${latest ? '&schema=latest' : ''}`;
  const url = `/api/v1/topics/${encodeURIComponent(name)}/records${query}`;
  const [first] = (await postText<Schemas['Produced']>(url, record)).records;
  if (first === undefined) throw new Error('no record was appended');
  return first;
}
