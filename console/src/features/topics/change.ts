/** A captured change as the record browser shows it: columns with the row before and after. */
export interface Cell {
  text: string;
  /** Why there is no text of its own: a null, or a value the source did not send. */
  absent: 'null' | 'unchanged' | 'not known' | null;
}

export interface ColumnRow {
  column: string;
  old: Cell | null;
  new: Cell | null;
  changed: boolean;
}

export interface Change {
  kind: string;
  rows: ColumnRow[];
  origin: { name: string; value: string }[];
}

type Json = Record<string, unknown>;

function isObject(value: unknown): value is Json {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

export function cellText(value: unknown): string {
  return typeof value === 'string' ? value : JSON.stringify(value);
}

function cell(value: unknown): Cell {
  if (value === null || value === undefined) return { text: 'null', absent: 'null' };
  return { text: cellText(value), absent: null };
}

/** Reads a decoded value as a change; null when it is anything else. */
export function readChange(value: unknown): Change | null {
  if (!isObject(value) || typeof value.change !== 'string' || !isObject(value.origin)) return null;
  const now = isObject(value.new) ? value.new : null;
  const old = isObject(value.old) ? value.old : null;
  const unsent = new Set(Array.isArray(value.unchanged) ? value.unchanged.map(String) : []);
  const columns = [...new Set([...Object.keys(now ?? {}), ...Object.keys(old ?? {})])];
  const rows = columns.map((column): ColumnRow => {
    const after =
      now && (unsent.has(column) ? { text: 'unchanged, not sent', absent: 'unchanged' as const } : cell(now[column]));
    const before = old && (column in old ? cell(old[column]) : { text: 'not known', absent: 'not known' as const });
    const comparable =
      after !== null && before !== null && after.absent !== 'unchanged' && before.absent !== 'not known';
    return { column, old: before, new: after, changed: comparable && after.text !== before.text };
  });
  const origin = Object.entries(value.origin).map(([name, fact]) => ({ name, value: cellText(fact) }));
  return { kind: value.change, rows, origin };
}
