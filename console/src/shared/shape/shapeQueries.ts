import { keepPreviousData } from '@tanstack/react-query';

import { answered, api, everything, type Schemas } from '../../api/client';

/** The functions that expressions may use. */
export const functionsQuery = {
  queryKey: ['shape functions'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/shapes/functions', { params: { query } }))),
  staleTime: 30_000,
};

/** What a shape does to a few real rows, and what is wrong with it. */
export function triedQuery(body: Schemas['TryShape'] | null) {
  return {
    queryKey: ['tried shape', body],
    queryFn: () => {
      if (body === null) throw new Error('there is nothing to try a shape on');
      return answered(api.POST('/api/v1/shapes/try', { body }));
    },
    enabled: body !== null,
    placeholderData: keepPreviousData,
    retry: false,
    refetchOnWindowFocus: false,
  };
}

/** What another shape does to many rows. */
export function compareShapes(body: Schemas['CompareShapes']) {
  return answered(api.POST('/api/v1/shapes/compare', { body }));
}
