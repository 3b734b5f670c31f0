import { answered, api, asPlanned, everything, type Page, type Plan, type Schemas } from '../../api/client';
import { parseExact } from '../../shared/exact';

export type Cause = Schemas['Cause'];
export type Kept = Schemas['QuarantinedRecord'];
export type Which = Schemas['WhichRecords'];

export const causesQuery = {
  queryKey: ['quarantine', 'causes'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/quarantine/causes', { params: { query } }))),
};

export function recordsQuery(connector: string, cause: string, state: string, limit: number) {
  const query = { connector, cause, state: state === 'open' ? undefined : state, limit };
  return {
    queryKey: ['quarantine', 'records', query],
    // figures keep their digits: the value may be mended and go back
    queryFn: () =>
      answered<string>(api.GET('/api/v1/quarantine/records', { params: { query }, parseAs: 'text' })).then(
        (text) => (parseExact(text) as Page<Kept>).items,
      ),
  };
}

export function retry(which: Which, perSecond: number | null) {
  return answered(api.POST('/api/v1/quarantine/retry', { body: { which, per_second: perSecond } }));
}

/** Gives records up as planned; without a tag tells how many that would be. */
export function discard(which: Which, reason: string, tag: string | null) {
  const params = { query: asPlanned(tag) };
  return answered(api.POST('/api/v1/quarantine/discard', { params, body: { which, reason } })) as Promise<Plan>;
}

export function mend(id: number, value: unknown) {
  const params = { path: { id } };
  return answered(
    api.PUT('/api/v1/quarantine/records/{id}/mended', {
      params,
      body: { value: value as Record<string, never> | null },
    }),
  );
}
