import { answered, api, asPlanned, at, everything, type Page, type Schemas } from '../../api/client';

export type Schema = Schemas['Schema'];
export type SchemaVersion = Schemas['SchemaVersion'];
export type Summary = Schemas['SchemaSummary'];
export type Language = Schemas['Language'];
export type Rule = Schemas['Rule'];
export type Reference = Schemas['SchemaReference'];

/** Schemas on a page of the list. */
export const PAGE = 200;

export function schemasQuery(search: string) {
  return {
    queryKey: ['schemas', search],
    queryFn: ({ pageParam }: { pageParam: string | null }) =>
      answered(
        api.GET('/api/v1/schemas', { params: { query: { search, cursor: pageParam ?? undefined, limit: PAGE } } }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last: Page<Summary>) => last.next ?? null,
  };
}

export function schemaQuery(name: string) {
  return {
    queryKey: ['schema', name],
    queryFn: () => answered(api.GET('/api/v1/schemas/{name}', { params: { path: { name } } })),
  };
}

export function differenceQuery(name: string, from: number, to: number) {
  return {
    queryKey: ['schema', name, 'difference', from, to],
    queryFn: () =>
      everything((paging) =>
        answered(
          api.GET('/api/v1/schemas/{name}/difference', { params: { path: { name }, query: { ...paging, from, to } } }),
        ),
      ),
    staleTime: Infinity,
  };
}

export interface Text {
  text: string;
  references: Reference[];
}

export function checkQuery(name: string, { text, references }: Text) {
  const body = { text, references };
  return {
    queryKey: ['schema', name, 'check', text, references],
    queryFn: () => answered(api.POST('/api/v1/schemas/{name}/check', { params: { path: { name } }, body })),
  };
}

export function impactQuery(name: string, { text, references }: Text) {
  const body = { text, references };
  return {
    queryKey: ['schema', name, 'impact', text, references],
    queryFn: () => answered(api.POST('/api/v1/schemas/{name}/impact', { params: { path: { name } }, body })),
  };
}

export function register(name: string, { text, references }: Text, why: string) {
  const body = { text, references, why, author: 'the console' };
  return answered(api.POST('/api/v1/schemas/{name}/versions', { params: { path: { name } }, body }));
}

export function createSchema(body: Schemas['NewSchema']) {
  return answered(api.POST('/api/v1/schemas', { body }));
}

export function changeSchema(name: string, revision: number, body: Schemas['SchemaEdit']) {
  return answered(api.PUT('/api/v1/schemas/{name}', { params: { path: { name }, header: at(revision) }, body }));
}

/** Deletes a schema as planned; without a tag tells what that would do. */
export function deleteSchema(name: string, tag: string | null) {
  const params = { path: { name }, query: asPlanned(tag) };
  return answered(api.DELETE('/api/v1/schemas/{name}', { params }));
}

export function infer(body: Schemas['InferRequest']) {
  return answered(api.POST('/api/v1/schemas/infer', { body }));
}
