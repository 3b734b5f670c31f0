import { useState } from 'react';

import type { Schemas } from '../../api/client';
import { count, span } from '../../shared/format';
import type { Reader } from '../../shared/readers/readersQueries';
import { Repositioning } from '../../shared/readers/Repositioning';
import { stacked, type Flag } from './flags';

type Partition = Schemas['Partition'];

/**
 * For each partition a ruler from its first offset to its newest, all to one scale: what is kept is filled, what was forgotten
 * is not, and readers are flags where they read next. A flag moves its reader.
 */
export function Rulers({ topic, partitions, readers }: { topic: string; partitions: Partition[]; readers: Reader[] }) {
  const [moving, setMoving] = useState<{ reader: string; partition: number } | null>(null);
  const longest = Math.max(1, ...partitions.map((p) => p.next_offset));
  const reader = readers.find((r) => r.name === moving?.reader);
  return (
    <div className="sheet" style={{ marginBottom: 18 }}>
      <h2>Offsets kept, by partition</h2>
      <div className="ruler">
        {partitions.map((p) => (
          <Ruler
            key={p.partition}
            partition={p}
            longest={longest}
            flags={readers.flatMap((r) =>
              r.positions
                .filter((at) => at.topic === topic && at.partition === p.partition)
                .map((at) => ({ name: r.name, next: at.next_offset, lag: at.lag_records, lagMs: at.lag_ms ?? null })),
            )}
            onFlag={(name) => setMoving({ reader: name, partition: p.partition })}
          />
        ))}
      </div>
      {reader && moving && (
        <Repositioning reader={reader} topic={topic} partition={moving.partition} onClose={() => setMoving(null)} />
      )}
    </div>
  );
}

interface RulerProps {
  partition: Partition;
  longest: number;
  flags: Flag[];
  onFlag: (reader: string) => void;
}

function Ruler({ partition, longest, flags, onFlag }: RulerProps) {
  const { first_offset: first, next_offset: next } = partition;
  const placed = stacked(flags, longest);
  const rows = Math.max(0, ...placed.map((p) => p.row + 1));
  const place = { marginLeft: `${(100 * first) / longest}%`, width: `${(100 * (next - first)) / longest}%` };
  return (
    <>
      <span>partition {partition.partition}</span>
      <div className="track" style={{ paddingTop: `${rows * 1.1}rem` }}>
        <div
          className="line"
          role="img"
          aria-label={next === first ? 'no record is kept' : `offsets ${first} to ${next - 1} are kept`}
        >
          <div style={place} />
        </div>
        {placed.map(({ flag, row, before }) => (
          <button
            key={flag.name}
            type="button"
            className={before ? 'flag before' : 'flag'}
            style={{ left: `${(100 * Math.min(flag.next, next)) / longest}%`, top: `${row * 1.1}rem` }}
            title={`${flag.name} reads offset ${count(flag.next)} next, ${count(flag.lag)} to go${
              flag.lagMs === null ? '' : `, ${span(flag.lagMs)} behind`
            }. Click to move it.`}
            onClick={() => onFlag(flag.name)}
          >
            {flag.name}
          </button>
        ))}
      </div>
      <span className="quiet number">{next === first ? 'empty' : `${count(first)} to ${count(next - 1)}`}</span>
    </>
  );
}
