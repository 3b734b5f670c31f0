import { describe, expect, it } from 'vitest';

import type { Schemas } from '../../api/client';
import { lagText, loading } from './progress';

type Connector = Schemas['Connector'];

const none = { load: 0, insert: 0, update: 0, delete: 0, truncate: 0 };

function connector(part: Partial<Connector>): Connector {
  return {
    id: '',
    name: 'packhouse-changes',
    kind: 'sink',
    definition: { kind: 'sink', connection: '', topics: [] },
    system: 'packhouse',
    state: 'following',
    deleting: false,
    rate_per_s: 0,
    guarantee: '',
    version: 1,
    created_at: '',
    notes: [],
    lanes: [],
    quarantined: 0,
    passed_over: 0,
    tables: [],
    ...part,
  };
}

/** A table that a load before this one read once already, where this one is under way. */
const table = (done: number, load_total?: number) => ({
  from: '',
  to: '',
  counts: { ...none, load: load_total === undefined ? done : 500_000 + done },
  load_total,
  load_done: load_total === undefined ? undefined : done,
});

describe('what a lag means', () => {
  it.each<[string, Partial<Connector>, string]>([
    ['caught up', { lag_records: 0 }, 'none'],
    ['behind and moving', { lag_records: 12_000, rate_per_s: 50 }, '12,000 records, caught up in 4 min'],
    ['behind and standing', { lag_records: 12_000 }, '12,000 records'],
    ['not known', { state: 'starting' }, 'unknown'],
    ['a source, which does not count it', { kind: 'source', latency_ms: 3 }, 'not counted'],
    [
      'loading',
      { state: 'loading', rate_per_s: 1000, tables: [table(20_000, 120_000), table(900)] },
      '20,000 of about 120,000 rows loaded, 2 min left',
    ],
  ])('%s', (_, part, text) => expect(lagText(connector(part))).toBe(text));

  it('never counts more rows than it says there are, when the estimate was low', () => {
    const load = loading(connector({ state: 'loading', tables: [table(150, 100)] }));
    expect(load).toEqual({ done: 150, total: 150 });
  });
});
