import type { Schemas } from '../../api/client';
import { count, span, timeLeft } from '../../shared/format';

type Connector = Schemas['Connector'];

/** Rows that the initial load has read and expects, over all tables still loading; null when none is. */
export function loading(connector: Connector): { done: number; total: number } | null {
  const tables = connector.tables.filter((t) => t.load_total !== undefined && t.load_total !== null);
  if (connector.state !== 'loading' || tables.length === 0) return null;
  return {
    done: tables.reduce((sum, t) => sum + (t.load_done ?? 0), 0),
    total: tables.reduce((sum, t) => sum + Math.max(t.load_total ?? 0, t.load_done ?? 0), 0),
  };
}

/** What a connector's lag means, in time and data. */
export function lagText(connector: Connector): string {
  const load = loading(connector);
  if (load) {
    const left = timeLeft(load.done, load.total, connector.rate_per_s);
    return `${count(load.done)} of about ${count(load.total)} rows loaded${left ? `, ${left} left` : ''}`;
  }
  if (connector.lag_records !== undefined && connector.lag_records !== null) {
    if (connector.lag_records === 0) return 'none';
    const left = connector.rate_per_s > 0 ? span((connector.lag_records / connector.rate_per_s) * 1000) : null;
    return `${count(connector.lag_records)} records${left ? `, caught up in ${left}` : ''}`;
  }
  // how much a source's log still holds for it is not counted yet: saying none would be a guess
  return connector.kind === 'source' ? 'not counted' : 'unknown';
}

export const KINDS = ['load', 'insert', 'update', 'delete', 'truncate'] as const;

export function total(counts: Schemas['Counts']): number {
  return KINDS.reduce((sum, kind) => sum + counts[kind], 0);
}
