import type { Line } from '../../shared/difference';

export type Pair = [Line | null, Line | null];

/** Lines of two texts in rows: what went stands beside what came in its place. */
export function sideBySide(lines: Line[]): Pair[] {
  const rows: Pair[] = [];
  let gone: Line[] = [];
  let came: Line[] = [];
  const flush = () => {
    for (let n = 0; n < Math.max(gone.length, came.length); n += 1) rows.push([gone[n] ?? null, came[n] ?? null]);
    gone = [];
    came = [];
  };
  for (const line of lines) {
    if (line.kind === 'gone') gone.push(line);
    else if (line.kind === 'new') came.push(line);
    else {
      flush();
      rows.push([line, line]);
    }
  }
  flush();
  return rows;
}
