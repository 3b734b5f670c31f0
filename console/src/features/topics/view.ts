/** How a topic's records are looked at. It stands in the address, so that it can be sent to a colleague. */
export interface View {
  order: 'newest' | 'oldest';
  partition: number | null;
  offset: number | null;
  /** RFC 3339. */
  time: string | null;
  /** Only records of this key. */
  key: string | null;
  /** Follow new records as they are appended. */
  tail: boolean;
  /** Search back for records that this condition holds for. */
  filter: string | null;
  form: Form;
}

export const FORMS = ['table', 'json', 'raw', 'hex'] as const;
export type Form = (typeof FORMS)[number];

function number(text: string | null): number | null {
  if (text === null || !/^\d+$/.test(text)) return null;
  return Number(text);
}

export function readView(search: URLSearchParams): View {
  const time = search.get('time');
  return {
    order: search.get('order') === 'oldest' ? 'oldest' : 'newest',
    partition: number(search.get('partition')),
    offset: number(search.get('offset')),
    time: time !== null && !Number.isNaN(Date.parse(time)) ? new Date(time).toISOString() : null,
    key: search.get('key'),
    tail: search.get('tail') === '1',
    filter: search.get('where'),
    form: FORMS.find((form) => form === search.get('form')) ?? 'table',
  };
}

export function writeView(view: View): URLSearchParams {
  const search = new URLSearchParams();
  if (view.order === 'oldest') search.set('order', 'oldest');
  if (view.partition !== null) search.set('partition', String(view.partition));
  if (view.offset !== null) search.set('offset', String(view.offset));
  if (view.time !== null) search.set('time', view.time);
  if (view.key !== null) search.set('key', view.key);
  if (view.tail) search.set('tail', '1');
  if (view.filter !== null) search.set('where', view.filter);
  if (view.form !== 'table') search.set('form', view.form);
  return search;
}

/**
 * A change of the view that keeps it meaningful: an offset needs a partition, following needs the newest first, a search goes
 * back from the newest or from a time.
 */
export function changeView(view: View, change: Partial<View>): View {
  const next = { ...view, ...change };
  if (change.time != null) next.offset = null;
  if (change.offset != null) next.time = null;
  if (next.partition === null) next.offset = null;
  if (change.partition !== undefined && change.offset === undefined) next.offset = null;
  if (change.filter != null) return { ...next, order: 'newest', offset: null, key: null, tail: false };
  if (change.tail) return { ...next, order: 'newest', offset: null, time: null, key: null, filter: null };
  if (change.order !== undefined || change.offset != null || change.key != null) next.filter = null;
  if (next.order === 'oldest' || next.offset !== null || next.time !== null || next.key !== null) next.tail = false;
  return next;
}
