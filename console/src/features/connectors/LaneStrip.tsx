import { Button, Group } from '@mantine/core';

import { count, counted, rate } from '../../shared/format';
import type { Connector } from '../../shared/liveConnectors';
import { StateMark, toneOf } from '../../shared/StateMark';
import { When } from '../../shared/When';

type Lane = Connector['lanes'][number];

/** A connector's lanes as a row of small segments: how many run, wait or failed, and where. */
export function LaneStrip({ lanes }: { lanes: Lane[] }) {
  return (
    <div className="lanestrip" role="img" aria-label={summary(lanes)} title={summary(lanes)}>
      {lanes.map((lane) => (
        <span key={lane.lane} data-tone={unplaced(lane) ? 'waits' : toneOf(lane.state)} />
      ))}
    </div>
  );
}

/** Whether no runner may carry it. */
function unplaced(lane: Pick<Lane, 'state' | 'runner'>): boolean {
  return !lane.runner && lane.state === 'halted';
}

/** How many lanes are in which state, in words. */
export function summary(lanes: readonly Pick<Lane, 'state' | 'runner'>[]): string {
  const counts = new Map<string, number>();
  for (const lane of lanes) {
    const word = unplaced(lane) ? 'without a runner' : lane.state;
    counts.set(word, (counts.get(word) ?? 0) + 1);
  }
  const parts = [...counts].map(([word, number]) => `${count(number)} ${word}`);
  return `${lanes.length === 1 ? 'One lane' : `${count(lanes.length)} lanes`}: ${parts.join(', ')}`;
}

/** The lanes one by one: where each runs, how it is, and starting it anew. */
export function Lanes({
  connector,
  busy,
  onRestart,
}: {
  connector: Connector;
  busy: boolean;
  onRestart: (lane: number) => void;
}) {
  return (
    <section className="sheet" aria-label="Lanes" style={{ marginTop: 16 }}>
      <h2>Lanes</h2>
      <ul className="lanes">
        {connector.lanes.map((lane) => (
          <li key={lane.lane}>
            <Group justify="space-between" gap="sm" wrap="nowrap" align="flex-start">
              <div style={{ minWidth: 0 }}>
                <strong>{lane.lane}</strong> <StateMark state={lane.state} deleting={connector.deleting} />
                {lane.since && (
                  <span className="quiet">
                    {' '}
                    <When time={lane.since} />
                  </span>
                )}
                <span className="quiet">
                  {lane.runner ? ` · on ${lane.runner}` : ''}
                  {` · ${rate(lane.rate_per_s)} changes/s`}
                  {lane.lag_records != null && ` · ${counted(lane.lag_records, 'record')} behind`}
                </span>
                {lane.reason && <div style={{ color: 'var(--warn)' }}>{lane.reason}</div>}
                {lane.retry_at && (
                  <div className="quiet">
                    Next try: <When time={lane.retry_at} />
                  </div>
                )}
              </div>
              <Button
                size="compact-sm"
                variant="subtle"
                style={{ flexShrink: 0 }}
                disabled={connector.deleting || lane.state === 'stopped' || lane.state === 'paused'}
                loading={busy}
                onClick={() => onRestart(lane.lane)}
              >
                Start anew
              </Button>
            </Group>
          </li>
        ))}
      </ul>
    </section>
  );
}
