/** A reader on a partition's ruler. */
export interface Flag {
  name: string;
  next: number;
  lag: number;
  lagMs: number | null;
}

export interface Placed {
  flag: Flag;
  /** From the top; the pole reaches from there down to the line. */
  row: number;
  /** Near the end the name stands on the other side of its pole. */
  before: boolean;
}

/** What a character of a name takes of a ruler as wide as on a small screen, in hundredths. */
const CHARACTER = 1.1;
/** The longest name shown whole, in hundredths of a ruler. */
const WIDEST = 24;

/** Places flags so that no name covers another, and no pole goes through a name below it. */
export function stacked(flags: Flag[], longest: number): Placed[] {
  const spans = flags.map((flag) => {
    const pole = (100 * flag.next) / longest;
    const before = pole > 80;
    const width = Math.min(WIDEST, CHARACTER * (flag.name.length + 2));
    return { flag, pole, before, from: before ? pole - width : pole, to: before ? pole : pole + width, row: 0 };
  });
  // outermost first: their poles then pass beside the names that come below
  spans.sort((a, b) => outward(a) - outward(b) || a.flag.name.localeCompare(b.flag.name));
  const done: typeof spans = [];
  for (const span of spans) {
    const free = (row: number) =>
      done.every((other) => {
        if (other.row === row) return span.to < other.from || span.from > other.to;
        const [above, below] = other.row < row ? [other, span] : [span, other];
        return above.pole <= below.from || above.pole >= below.to;
      });
    while (span.row < done.length && !free(span.row)) span.row += 1;
    done.push(span);
  }
  return done.map(({ flag, row, before }) => ({ flag, row, before }));
}

function outward({ pole, before }: { pole: number; before: boolean }): number {
  return before ? 100 - pole : pole;
}
