/** Work that takes longer than a request, and how it is told. */
import { answered, api, everything, type Schemas } from '../../api/client';
import { current } from '../changes';
import { bytes, counted, span } from '../format';

export type Operation = Schemas['Operation'];

export const operationsQuery = {
  queryKey: ['operations'],
  queryFn: () =>
    current('operation', () => everything((query) => answered(api.GET('/api/v1/operations', { params: { query } })))),
};

/** One operation, with the steps that lists leave out. */
export function operationQuery(id: string) {
  return {
    queryKey: ['operation', id],
    queryFn: () => answered(api.GET('/api/v1/operations/{id}', { params: { path: { id } } })),
  };
}

export function cancel(id: string) {
  return answered(api.DELETE('/api/v1/operations/{id}', { params: { path: { id } } }));
}

const isRunning = (operation: Operation) => operation.state === 'running';

/** What is being done first, then what ended; each the newest first. */
export function inOrder(operations: Operation[]): { running: Operation[]; ended: Operation[] } {
  const newest = [...operations].sort((a, b) => (a.id < b.id ? 1 : -1));
  return { running: newest.filter(isRunning), ended: newest.filter((operation) => !isRunning(operation)) };
}

function amount(unit: Operation['unit'], value: number): string {
  switch (unit) {
    case 'bytes':
      return bytes(value);
    case 'records':
      return counted(value, 'record');
    case 'rows':
      return counted(value, 'row');
    case 'steps':
      return counted(value, 'step');
  }
}

/** What it does, in parts: what stands before its subject's name, that name, and what stands after it; the name is empty where it is not told. */
export function parts({ says, subject }: Operation): [string, string, string] {
  const at = subject ? says.indexOf(subject.name) : -1;
  if (!subject || at < 0) return [says, '', ''];
  return [says.slice(0, at), subject.name, says.slice(at + subject.name.length)];
}

/** How far it is: `2 of 9 steps, 4 s left`. */
export function progress({ done, total, unit, left_ms, kind }: Operation): string {
  if (total == null) return done === 0 ? '' : amount(unit, done);
  // one step is done or not
  if (kind === 'delete') return '';
  // rows of a table are estimated
  const about = kind === 'load_again' ? 'about ' : '';
  const far =
    done === total
      ? `${about}${amount(unit, total)}`
      : `${amount(unit, done).split(' ')[0]} of ${about}${amount(unit, total)}`;
  const words = unit === 'bytes' && done !== total ? `${bytes(done)} of ${bytes(total)}` : far;
  return left_ms == null ? words : `${words}, ${span(Math.max(1_000, left_ms))} left`;
}

/** What came of it, in words; none where there is nothing to say. */
export function came({ result }: Operation): string[] {
  const told = (n: number | null | undefined, what: string) => (n ? [`${counted(n, 'record')} ${what}`] : []);
  return [
    ...told(result.records, 'imported'),
    ...told(result.delivered, 'delivered'),
    ...told(result.superseded, 'superseded'),
    ...told(result.discarded, 'discarded meanwhile'),
    ...told(result.waiting, 'failed again'),
    ...(result.remains ?? []).map((left) => `There stays: ${left}`),
  ];
}

/** Whether it can be cancelled, as far as is known here: what has begun in a system refuses. */
export const canBeCancelled = ({ kind, state, cancelling }: Operation) =>
  state === 'running' && !cancelling && kind !== 'delete';
