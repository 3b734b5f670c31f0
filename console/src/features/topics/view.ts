/** How a topic's records are looked at. It stands in the address, so that it can be sent to a colleague. */
export interface View {
  order: 'newest' | 'oldest';
  partition: number | null;
  offset: number | null;
  /** RFC 3339. */
  time: string | null;
  /** Follow new records as they are appended. */
  tail: boolean;
}

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
    tail: search.get('tail') === '1',
  };
}

export function writeView(view: View): URLSearchParams {
  const search = new URLSearchParams();
  if (view.order === 'oldest') search.set('order', 'oldest');
  if (view.partition !== null) search.set('partition', String(view.partition));
  if (view.offset !== null) search.set('offset', String(view.offset));
  if (view.time !== null) search.set('time', view.time);
  if (view.tail) search.set('tail', '1');
  return search;
}

/** A change of the view that keeps it meaningful: an offset needs a partition, following needs the newest first. */
export function changeView(view: View, change: Partial<View>): View {
  const next = { ...view, ...change };
  if (change.time != null) next.offset = null;
  if (change.offset != null) next.time = null;
  if (next.partition === null) next.offset = null;
  if (change.partition !== undefined && change.offset === undefined) next.offset = null;
  if (change.tail) return { ...next, order: 'newest', offset: null, time: null };
  if (next.order === 'oldest' || next.offset !== null || next.time !== null) next.tail = false;
  return next;
}
