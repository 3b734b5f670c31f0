import { keepPreviousData } from '@tanstack/react-query';

import { answered, api, asPlanned, at, everything, type Plan, type Schemas } from '../../api/client';

export type OwnFunction = Schemas['OwnFunction'];
export type Entry = Schemas['FunctionEntry'];

export const functionListQuery = {
  queryKey: ['functions'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/functions', { params: { query } }))),
};

export function functionQuery(name: string) {
  return {
    queryKey: ['functions', name],
    queryFn: () => answered(api.GET('/api/v1/functions/{name}', { params: { path: { name } } })),
  };
}

/** What a function gives for its examples, and does to the rows of all that use it. */
export function triedFunctionQuery(asked: OwnFunction) {
  return {
    queryKey: ['tried function', asked],
    queryFn: () => answered(api.POST('/api/v1/functions/try', { body: { function: asked } })),
    placeholderData: keepPreviousData,
    retry: false,
    refetchOnWindowFocus: false,
  };
}

export function saveFunction(asked: OwnFunction, version: number) {
  // one that is not there yet has no version
  const params = { path: { name: asked.name }, header: version > 0 ? at(version) : {} };
  return answered(api.PUT('/api/v1/functions/{name}', { params, body: { function: asked } }));
}

/** Deletes a function as planned; without a tag tells what that would do. */
export function deleteFunction(name: string, version: number, tag: string | null) {
  const params = { path: { name }, header: at(version), query: asPlanned(tag) };
  return answered(api.DELETE('/api/v1/functions/{name}', { params })) as Promise<Plan>;
}

export const EMPTY: OwnFunction = {
  name: '',
  parameters: [{ name: 'grade', type: 'text' }],
  gives: 'integer',
  value: "CASE grade WHEN 'first' THEN 3 WHEN 'second' THEN 2 ELSE 0 END",
  description: '',
  examples: [{ given: ["'first'"], gives: '3' }],
};

/** The function with another number of parameters: its examples have an argument for each. */
export function withParameters(old: OwnFunction, parameters: OwnFunction['parameters'] = [], gone = -1): OwnFunction {
  const examples = (old.examples ?? []).map((example) => {
    const given = example.given.filter((_, n) => n !== gone).slice(0, parameters.length);
    while (given.length < parameters.length) given.push('NULL');
    return { ...example, given };
  });
  return { ...old, parameters, examples };
}
