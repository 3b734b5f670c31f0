import { Button, Group } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { answered, api, everything, problemOf, type Schemas } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { count } from '../../shared/format';
import { useKeptCurrent, useLiveConnectors } from '../../shared/liveConnectors';
import { current } from '../../shared/changes';
import { Figure, Heading } from '../../shared/Page';
import { CopyLine, ProblemNote } from '../../shared/ProblemNote';
import { StateMark } from '../../shared/StateMark';
import { When } from '../../shared/When';
import { conditionOf } from './condition';

type Runner = Schemas['Runner'];

const RUNNERS = {
  queryKey: ['runners'],
  queryFn: () =>
    current('runner', () => everything((query) => answered(api.GET('/api/v1/runners', { params: { query } })))),
};
const WAITING = {
  queryKey: ['runners', 'waiting'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/waiting-lanes', { params: { query } }))),
};

/** What runs where, and how much room is left. */
export function RunnersPage() {
  const { held } = useLiveConnectors();
  // that a runner is alive still is not told
  const runners = useQuery({ ...RUNNERS, refetchInterval: held ? false : 2_000 });
  const lanes = useQuery({ ...WAITING, ...useKeptCurrent('runner') });
  const all = runners.data ?? [];
  const alive = all.filter((r) => r.alive);
  const waiting = lanes.data ?? [];
  const room = alive.filter((r) => !r.draining).reduce((sum, r) => sum + r.room - r.load, 0);
  return (
    <div className="page">
      <Heading
        title="Runners"
        says="Processes that carry lanes. The server has one inside; more run beside it or near a system."
      />
      <ProblemNote problem={runners.data ? null : problemOf(runners.error)} />
      {runners.data && (
        <>
          <div className="figures">
            <Figure
              label="Runners alive"
              value={count(alive.length)}
              unit={all.length > alive.length ? `of ${count(all.length)}` : undefined}
            />
            <Figure label="Lanes carried" value={count(alive.reduce((sum, r) => sum + r.lanes.length, 0))} />
            <Figure
              label="Lanes without a runner"
              value={count(waiting.length)}
              tone={waiting.length > 0 ? 'warn' : undefined}
            />
            <Figure label="Room left" value={count(room)} unit="lanes of weight 1" />
          </div>
          {waiting.length > 0 && (
            <div className="note" role="alert">
              <strong>These lanes have no runner:</strong>
              <ul className="notes">
                {waiting.slice(0, 8).map((lane) => (
                  <li key={`${lane.connector} ${lane.lane}`}>
                    <Link to={`/connectors/${lane.connector}`}>{lane.name}</Link>, lane {lane.lane}: {lane.reason}
                  </li>
                ))}
                {waiting.length > 8 && <li>and {count(waiting.length - 8)} more</li>}
              </ul>
            </div>
          )}
          {all.length === 0 && <Blank title="No runner was here for a day">Nothing is carried until one starts.</Blank>}
          <div className="runners">
            {all.map((runner) => (
              <One key={runner.name} runner={runner} others={alive.length > 1} />
            ))}
          </div>
          <section className="sheet" aria-label="One more runner" style={{ marginTop: 16, padding: '12px 16px' }}>
            <strong>One more runner</strong> takes its part of the lanes within seconds. On any machine that reaches
            Gonvel’s own database, with the same key:
            <CopyLine text="gonvel runner --runner packhouse-1 --label site=packhouse" />
          </section>
        </>
      )}
    </div>
  );
}

function One({ runner, others }: { runner: Runner; others: boolean }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const again = () => void queries.invalidateQueries({ queryKey: RUNNERS.queryKey });
  const path = { name: runner.name };
  const drain = useMutation({
    mutationFn: (draining: boolean) =>
      answered(api.PUT('/api/v1/runners/{name}/draining', { params: { path }, body: { draining } })),
    onSettled: again,
  });
  const forget = useMutation({
    mutationFn: () => answered(api.DELETE('/api/v1/runners/{name}', { params: { path } })),
    onSettled: again,
  });
  const condition = conditionOf(runner);
  const labels = Object.entries(runner.labels).map(([name, value]) => `${name}=${value}`);
  return (
    <section className="sheet runner" aria-label={runner.name}>
      <Group justify="space-between" align="flex-start" wrap="nowrap" gap="md">
        <div style={{ minWidth: 0 }}>
          <h2>{runner.name}</h2>
          <span className="state" data-tone={condition.tone}>
            <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden>
              {condition.tone === 'well' ? (
                <circle cx="6" cy="6" r="5" fill="currentColor" />
              ) : condition.tone === 'quiet' ? (
                <path d="M1 4h10L6 11z" fill="currentColor" />
              ) : (
                <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" strokeWidth="2" />
              )}
            </svg>
            {condition.word}
          </span>{' '}
          <span className="quiet">
            heartbeat <When time={runner.beat_at} /> · started <When time={runner.started_at} /> · {runner.host} ·{' '}
            {runner.release}
          </span>
          <div className="mono">{labels.join('  ')}</div>
        </div>
        {runner.alive ? (
          <Button
            variant="default"
            style={{ flexShrink: 0 }}
            loading={drain.isPending}
            title={others || runner.draining ? undefined : 'There is no other runner: its lanes would stay'}
            onClick={() => drain.mutate(!runner.draining)}
          >
            {runner.draining ? 'Let it have lanes again' : 'Empty it'}
          </Button>
        ) : (
          <Button variant="subtle" style={{ flexShrink: 0 }} loading={forget.isPending} onClick={() => forget.mutate()}>
            Forget it
          </Button>
        )}
      </Group>
      <ProblemNote problem={problemOf(drain.error) ?? problemOf(forget.error)} />
      <div className="room" role="img" aria-label={`${runner.load} of ${runner.room} of its room is taken`}>
        <div style={{ width: `${Math.min(100, (100 * runner.load) / runner.room)}%` }} />
      </div>
      <Group justify="space-between" gap="sm">
        <span>
          <strong>{count(runner.lanes.length)}</strong> {runner.lanes.length === 1 ? 'lane' : 'lanes'}{' '}
          <span className="quiet">
            · {count(runner.load)} of {count(runner.room)} of its room
          </span>
        </span>
        {runner.lanes.length > 0 && (
          <Button size="compact-sm" variant="subtle" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? 'Close' : 'What it carries'}
          </Button>
        )}
      </Group>
      {open && (
        <ul className="lanes">
          {runner.lanes.map((lane) => (
            <li key={`${lane.connector} ${lane.lane}`}>
              <Link className="name" to={`/connectors/${lane.connector}`}>
                {lane.name}
              </Link>{' '}
              <span className="quiet">
                lane {lane.lane}
                {lane.weight > 1 && `, weight ${lane.weight}`}
              </span>{' '}
              <StateMark state={lane.state} />
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
