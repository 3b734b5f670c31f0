export interface DeliveredTable {
  columns: string[];
  rows: { how: string; cells: string[] }[];
}

/** A cell as text: one that is left alone is empty, null is said. */
function shown(value: unknown): string {
  if (value === undefined) return '';
  return typeof value === 'string' ? value : JSON.stringify(value);
}

interface DeliveredRow {
  how: string;
  cells: Record<string, unknown>;
}

/** The rows that records become under all columns that any of them has, in the order in which they first come. */
export function deliveredTable(rows: DeliveredRow[]): DeliveredTable {
  const columns = [...new Set(rows.flatMap((row) => Object.keys(row.cells)))];
  return {
    columns,
    rows: rows.map(({ how, cells }) => ({ how, cells: columns.map((column) => shown(cells[column])) })),
  };
}
