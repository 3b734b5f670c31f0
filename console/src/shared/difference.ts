/** One line of two texts laid beside each other. */
export interface Line {
  kind: 'same' | 'gone' | 'new';
  text: string;
}

/** The lines of two texts in order, with what went and what came: by their longest common part. */
export function difference(before: string, after: string): Line[] {
  const [a, b] = [before, after].map((text) => text.replace(/\n$/, '').split('\n')) as [string[], string[]];
  // lengths of the longest common parts of what follows
  const common = Array.from({ length: a.length + 1 }, () => new Array<number>(b.length + 1).fill(0));
  const at = (i: number, j: number) => common[i]?.[j] ?? 0;
  for (let i = a.length - 1; i >= 0; i -= 1) {
    for (let j = b.length - 1; j >= 0; j -= 1) {
      const row = common[i];
      if (row) row[j] = a[i] === b[j] ? at(i + 1, j + 1) + 1 : Math.max(at(i + 1, j), at(i, j + 1));
    }
  }
  const lines: Line[] = [];
  let [i, j] = [0, 0];
  while (i < a.length || j < b.length) {
    const [old, next] = [a[i], b[j]];
    if (old !== undefined && old === next) {
      lines.push({ kind: 'same', text: old });
      i += 1;
      j += 1;
    } else if (old !== undefined && (next === undefined || at(i + 1, j) >= at(i, j + 1))) {
      lines.push({ kind: 'gone', text: old });
      i += 1;
    } else if (next !== undefined) {
      lines.push({ kind: 'new', text: next });
      j += 1;
    }
  }
  return lines;
}

/** The lines that changed, each with a few around it; where others are left out, null. */
export function around(lines: Line[], near: number): (Line | null)[] {
  const kept = lines.map((_, n) => lines.slice(Math.max(0, n - near), n + near + 1).some((l) => l.kind !== 'same'));
  return lines.flatMap((line, n) => {
    if (kept[n]) return [line];
    return n === 0 || kept[n - 1] ? [null] : [];
  });
}
