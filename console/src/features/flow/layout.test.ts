import { describe, expect, it } from 'vitest';

import type { Schemas } from '../../api/client';
import { layOut, lined, related, widthFor } from './layout';

type Connector = Schemas['Connector'];

const counts = { load: 0, insert: 0, update: 0, delete: 0, truncate: 0 };

function connector(id: string, kind: 'source' | 'sink', system: string, topics: string[]): Connector {
  return {
    id,
    name: id,
    kind,
    definition: { kind: 'sink', connection: '', topics: [] },
    system,
    state: 'following',
    deleting: false,
    rate_per_s: 10,
    guarantee: '',
    version: 1,
    created_at: '',
    notes: [],
    lanes: [],
    quarantined: 0,
    passed_over: 0,
    tables: topics.map((t) => ({
      from: kind === 'source' ? `public.${t}` : t,
      to: kind === 'source' ? t : `public.${t}`,
      counts,
    })),
  };
}

describe('the picture of the flow', () => {
  const layout = layOut(
    [
      connector('changes', 'source', 'packhouse', ['bins', 'blocks']),
      connector('pay', 'sink', 'settlement', ['bins']),
      connector('find', 'sink', 'tracefinder', ['blocks']),
    ],
    900,
  );

  it('puts every node in its column, and no two on each other', () => {
    expect(layout.nodes.map((n) => n.id)).toEqual([
      'from packhouse',
      'changes',
      'topic bins',
      'topic blocks',
      'pay',
      'find',
      'to settlement',
      'to tracefinder',
    ]);
    expect(new Set(layout.nodes.map((n) => `${n.x} ${n.y}`)).size).toBe(layout.nodes.length);
    expect(layout.nodes.every((n) => n.y < layout.height && n.x + n.width < 900)).toBe(true);
  });

  it('puts topics that are carried into others below them, before the sinks', () => {
    const rich: Connector = {
      ...connector('rich', 'sink', '', []),
      kind: 'topics',
      tables: [{ from: 'bins', to: 'rich.bins', counts }],
    };
    const longer = layOut(
      [
        connector('changes', 'source', 'packhouse', ['bins', 'blocks']),
        rich,
        connector('pay', 'sink', 'settlement', ['rich.bins', 'blocks']),
      ],
      1100,
    );
    const at = (id: string) => longer.nodes.find((n) => n.id === id);
    const order = ['topic bins', 'rich', 'topic rich.bins', 'pay', 'to settlement'].map((id) => at(id)?.x ?? 0);
    expect(order).toEqual([...order].sort((a, b) => a - b));
    expect(at('rich')?.y ?? 0).toBeGreaterThan(at('topic blocks')?.y ?? 0);
    expect(longer.strands.map((s) => `${s.from} → ${s.to}`)).toContain('rich → topic rich.bins');
    expect(related(longer, 'to settlement')).toContain('from packhouse');
  });

  it('finds what is upstream and downstream, not what only shares a neighbour', () => {
    expect([...related(layout, 'topic bins')].sort()).toEqual(
      ['changes', 'from packhouse', 'pay', 'to settlement', 'topic bins'].sort(),
    );
    expect(related(layout, 'from packhouse').size).toBe(layout.nodes.length);
  });

  it('draws what can be read of ten thousand topics and says how many it left out', () => {
    const topics = Array.from({ length: 10_000 }, (_, n) => `t${n}`);
    const many = layOut([connector('all', 'source', 'packhouse', topics)], 900);
    expect(many.hidden).toBe(10_000 - 24);
    expect(many.strands).toHaveLength(25);
  });

  it('draws applications that append where systems stand, each once, with their topics', () => {
    const producer = (name: string, topic: string, rate_per_s: number) =>
      ({ name, topic, rate_per_s, records: 1, refused: 0, first_at: '' }) satisfies Schemas['Producer'];
    const with_applications = layOut([connector('changes', 'source', 'packhouse', ['bins'])], 900, [
      producer('coldstore', 'coldstore.readings', 2),
      producer('coldstore', 'coldstore.doors', 1),
      producer('', 'bins', 0),
    ]);
    const at = (id: string) => with_applications.nodes.find((n) => n.id === id);
    expect(at('producer coldstore')).toMatchObject({
      column: 'from',
      producer: { topics: ['coldstore.readings', 'coldstore.doors'], rate: 3 },
    });
    expect(at('topic coldstore.doors')?.column).toBe('topic');
    expect(at('producer ')?.label).toBe('unnamed');
    expect([...related(with_applications, 'topic bins')].sort()).toEqual(
      ['changes', 'from packhouse', 'producer ', 'topic bins'].sort(),
    );
  });

  it('grows a strand with its rate, and keeps a still one visible', () => {
    const widths = [0, 10, 1_000, 100_000].map(widthFor);
    expect([...widths].sort((a, b) => a - b)).toEqual(widths);
    expect(widths[0]).toBeGreaterThan(1);
    expect(widths[3]).toBeLessThan(14);
  });
});

it('breaks long names where their parts meet', () => {
  expect(lined('bins', 80)).toEqual(['bins']);
  expect(lined('settlement', 68)).toEqual(['settlem', 'ent']);
  expect(lined('packhouse-changes', 108)).toEqual(['packhouse-', 'changes']);
  expect(lined('coldstore.readings.of-all-rooms', 108)).toEqual(['coldstore.', 'readings.of…']);
});
