/** Where everything stands in the picture of the flow: systems left, topics in the middle, systems right. */
import type { Schemas } from '../../api/client';
import { toneOf } from '../../shared/StateMark';

type Connector = Schemas['Connector'];
type Producer = Schemas['Producer'];

export interface Node {
  id: string;
  label: string;
  column: 'from' | 'source' | 'topic' | 'between' | 'shaped' | 'sink' | 'to';
  x: number;
  y: number;
  width: number;
  connector?: Connector;
  /** Of an application: the topics it appends to, the first one first, and its rate. */
  producer?: { topics: string[]; rate: number };
}

export interface Strand {
  from: string;
  to: string;
  tone: 'well' | 'warn' | 'quiet';
  /** In pixels; grows with the rate. */
  width: number;
}

export interface Layout {
  nodes: Node[];
  strands: Strand[];
  height: number;
  /** Topics that are carried but not drawn. */
  hidden: number;
}

export const NODE_HEIGHT = 68;
const STEP = 86;
const TOP = 52;
const MARGIN = 14;
/** Topics drawn at the most: more could not be read. */
const MOST_TOPICS = 24;
const ORDER = ['from', 'source', 'topic', 'sink', 'to'] as const;
/** Where topics are carried into topics, those stand between the others and the sinks. */
const LONGER = ['from', 'source', 'topic', 'between', 'shaped', 'sink', 'to'] as const;
/** Shares of the width: the names in the middle are the longest. */
const SHARES: Record<Node['column'], number> = {
  from: 19,
  source: 21,
  topic: 21,
  between: 20,
  shaped: 20,
  sink: 21,
  to: 19,
};

/** Where each column begins and how wide it is, in pixels. */
export function columnsFor(width: number, longer = false): Record<Node['column'], { x: number; width: number }> {
  const order = longer ? LONGER : ORDER;
  const room = Math.max(560, width) - 2 * MARGIN;
  const boxes = 0.86;
  const gap = (room * (1 - boxes)) / (order.length - 1);
  const all = order.reduce((sum, column) => sum + SHARES[column], 0);
  let x = MARGIN;
  const out = {} as Record<Node['column'], { x: number; width: number }>;
  for (const column of order) {
    const own = (room * boxes * SHARES[column]) / all;
    out[column] = { x, width: own };
    x += own + gap;
  }
  return out;
}

/** A strand's width for a rate in changes per second: readable from 0 to 100,000. */
export function widthFor(rate: number): number {
  return 1.5 + 2 * Math.log10(1 + Math.max(0, rate));
}

type Item = Pick<Node, 'id' | 'label' | 'connector' | 'producer'>;

/** Applications that append, each once. */
function applications(
  producers: Producer[],
): { id: string; label: string; producer: { topics: string[]; rate: number } }[] {
  const names = unique(producers.map((p) => p.name));
  return names.map((name) => {
    const own = producers.filter((p) => p.name === name);
    const rate = own.reduce((sum, p) => sum + p.rate_per_s, 0);
    return {
      id: `producer ${name}`,
      label: name === '' ? 'unnamed' : name,
      producer: { topics: own.map((p) => p.topic), rate },
    };
  });
}

export function layOut(connectors: Connector[], width: number, producers: Producer[] = []): Layout {
  const betweens = connectors.filter((c) => c.kind === 'topics');
  const places = columnsFor(width, betweens.length > 0);
  const topicOf = (c: Connector) => c.tables.map((t) => (c.kind === 'source' ? t.to : t.from));
  const shapedOf = (c: Connector) => (c.kind === 'topics' ? c.tables.map((t) => t.to) : []);
  const shaped = [...new Set(betweens.flatMap(shapedOf))].sort().slice(0, MOST_TOPICS);
  const sources = connectors.filter((c) => c.kind === 'source');
  const sinks = connectors.filter((c) => c.kind === 'sink');
  const sorted = (names: string[]) => unique(names).filter((t) => !shaped.includes(t));
  const captured = sorted(producers.length === 0 ? connectors.flatMap(topicOf) : sources.flatMap(topicOf));
  const others = sorted([...connectors.flatMap(topicOf), ...producers.map((p) => p.topic)]).filter(
    (t) => !captured.includes(t),
  );
  const high = captured.slice(0, MOST_TOPICS - Math.min(others.length, MOST_TOPICS / 3));
  const low = others.slice(0, MOST_TOPICS - high.length);
  const systems = unique(sources.map((c) => c.system)).map((s) => ({ id: `from ${s}`, label: s }));
  const writers = applications(producers);
  const topic = (t: string) => ({ id: `topic ${t}`, label: t });
  const columns: Record<Node['column'], Item[]> = {
    from: [...systems, ...writers],
    source: sources.map((c) => ({ id: c.id, label: c.name, connector: c })),
    topic: [...high, ...low].map(topic),
    between: betweens.map((c) => ({ id: c.id, label: c.name, connector: c })),
    shaped: shaped.map(topic),
    sink: sinks.map((c) => ({ id: c.id, label: c.name, connector: c })),
    to: unique(sinks.map((c) => c.system)).map((s) => ({ id: `to ${s}`, label: s })),
  };
  // applications and their topics stand below what is captured, so that no strand of theirs passes behind a source
  const upper = producers.length === 0 ? null : Math.max(high.length, sources.length, systems.length);
  const upperItems: Partial<Record<Node['column'], number>> = {
    from: systems.length,
    source: sources.length,
    topic: high.length,
  };
  const rows = (upper ?? 0) + Math.max(writers.length, low.length);
  // what is carried between topics stands below them, so that no strand to a sink passes behind it
  const below = upper === null ? columns.topic.length : rows;
  const lower = (column: Node['column']) => column === 'between' || column === 'shaped';
  const tallest = Math.max(
    1,
    rows,
    ...ORDER.map((column) => columns[column].length),
    ...(betweens.length > 0 ? [below + Math.max(columns.between.length, columns.shaped.length)] : []),
  );
  const height = TOP + tallest * STEP + 8;
  const above = betweens.length > 0 ? Math.max(1, below) : tallest;
  const row = (column: Node['column'], n: number): number => {
    const items = columns[column].length;
    if (lower(column)) return below + n;
    const first = upperItems[column];
    if (upper === null || first === undefined) return Math.max(0, above - items) / 2 + n;
    return n < first ? (upper - first) / 2 + n : upper + n - first;
  };
  const nodes = (betweens.length > 0 ? LONGER : ORDER).flatMap((column) =>
    columns[column].map((item, n): Node => ({ ...item, column, ...places[column], y: TOP + row(column, n) * STEP })),
  );
  const drawn = new Set(nodes.map((n) => n.id));
  const strands = connectors.flatMap((connector): Strand[] => {
    const source = connector.kind === 'source';
    const onward = shapedOf(connector).map((t) => `topic ${t}`);
    const own = topicOf(connector).map((t) => `topic ${t}`);
    const each = widthFor(connector.rate_per_s / Math.max(1, own.length));
    const system = source ? `from ${connector.system}` : `to ${connector.system}`;
    const trunk = source ? { from: system, to: connector.id } : { from: connector.id, to: system };
    const fans = own
      .filter((topic) => drawn.has(topic))
      .map((topic) => (source ? { from: connector.id, to: topic } : { from: topic, to: connector.id }));
    const trunks =
      connector.kind === 'topics'
        ? onward.filter((t) => drawn.has(t)).map((t) => ({ from: connector.id, to: t }))
        : [trunk];
    const tone = toneOf(connector.state);
    return [
      ...trunks.map((one) => ({ ...one, tone, width: widthFor(connector.rate_per_s / trunks.length) })),
      ...fans.map((fan) => ({ ...fan, tone, width: each })),
    ];
  });
  for (const p of producers) {
    const to = `topic ${p.topic}`;
    if (drawn.has(to)) strands.push({ from: `producer ${p.name}`, to, tone: 'well', width: widthFor(p.rate_per_s) });
  }
  return { nodes, strands, height, hidden: captured.length + others.length - high.length - low.length };
}

/** Letters that a line of a node holds. */
const lettersIn = (width: number, letter = 7) => Math.floor((width - 18) / letter);

/** A label as far as it has room; `letter` is the usual width of one, in pixels. */
export function short(label: string, width: number, letter = 7): string {
  const most = lettersIn(width, letter);
  return label.length <= most ? label : `${label.slice(0, most - 1)}…`;
}

/** A name in one line or two, broken where its parts meet if that can be. */
export function lined(label: string, width: number): string[] {
  const most = lettersIn(width);
  if (label.length <= most) return [label];
  const head = label.slice(0, most);
  const part = Math.max(...['.', '-', '_', ' '].map((mark) => head.lastIndexOf(mark)));
  const at = part > 0 ? part + 1 : most;
  return [label.slice(0, at), short(label.slice(at), width)];
}

function unique(names: string[]): string[] {
  return [...new Set(names)].sort();
}

/** Everything upstream and downstream of a node, with it. */
export function related(layout: Layout, id: string): Set<string> {
  const found = new Set([id]);
  for (const [near, far] of [
    ['from', 'to'],
    ['to', 'from'],
  ] as const) {
    const queue = [id];
    for (let at = queue.pop(); at !== undefined; at = queue.pop()) {
      for (const strand of layout.strands) {
        if (strand[near] === at && !found.has(strand[far])) {
          found.add(strand[far]);
          queue.push(strand[far]);
        }
      }
    }
  }
  return found;
}
