import { Button, SegmentedControl, Select, TextInput } from '@mantine/core';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { useFilter } from '../../shared/Filter';
import { exact } from '../../shared/format';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { linesQuery } from './connectorsQueries';
import { factsText } from './facts';

const LEVELS = [
  { value: 'info', label: 'Everything' },
  { value: 'warning', label: 'Warnings' },
  { value: 'error', label: 'Errors' },
];

/** What a connector's lanes say of their work: live, and searchable by lane, level, time and text. */
export function Log({ connector }: { connector: Connector }) {
  const { held } = useLiveConnectors();
  const [search, setSearch] = useSearchParams();
  const [text, setText] = useFilter('text');
  const [until, setUntil] = useFilter('until');
  const [most, setMost] = useState(200);
  const level = search.get('level') ?? 'info';
  const lane = search.get('lane');
  const set = (name: string, value: string | null) =>
    setSearch(
      (before) => {
        if (value === null || value === '') before.delete(name);
        else before.set(name, value);
        return before;
      },
      { replace: true },
    );
  const time = Date.parse(until);
  const wrongTime = until !== '' && Number.isNaN(time);
  const lines = useQuery({
    ...linesQuery(connector.id, {
      level,
      lane: lane === null ? undefined : Number(lane),
      text: text || undefined,
      until: until === '' || wrongTime ? undefined : new Date(time).toISOString(),
      limit: most,
    }),
    placeholderData: keepPreviousData,
    refetchInterval: held || until !== '' ? false : 1_000,
  });
  const all = lines.data ?? [];
  return (
    <section className="sheet" aria-label="Log">
      <div className="tools">
        <TextInput
          size="sm"
          w={240}
          label="With this text"
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
        />
        <div>
          <div className="choice-label" id="level">
            How grave
          </div>
          <SegmentedControl
            size="sm"
            aria-labelledby="level"
            data={LEVELS}
            value={level}
            onChange={(value) => set('level', value === 'info' ? null : value)}
          />
        </div>
        {connector.lanes.length > 1 && (
          <Select
            size="sm"
            w={110}
            label="Lane"
            placeholder="all"
            clearable
            data={connector.lanes.map((l) => String(l.lane))}
            value={lane}
            onChange={(value) => set('lane', value)}
          />
        )}
        <TextInput
          size="sm"
          w={220}
          label="Up to a time"
          placeholder="now"
          classNames={{ input: 'mono' }}
          error={wrongTime ? 'As 2026-11-25T06:00:00Z' : undefined}
          value={until}
          onChange={(e) => setUntil(e.currentTarget.value)}
        />
      </div>
      <ProblemNote problem={problemOf(lines.error)} />
      <ol className="lines" aria-label="Lines, the newest first" tabIndex={0}>
        {all.map((line) => (
          <li key={line.number} data-level={line.level}>
            <time dateTime={line.at} title={exact(line.at)} className="mono">
              {line.at.slice(5, 23).replace('T', ' ')}
            </time>
            <span className="level">{line.level}</span>
            <span>
              {line.says} <span className="quiet">{factsText(line)}</span>
            </span>
          </li>
        ))}
      </ol>
      {all.length >= most && (
        <Button variant="subtle" size="compact-sm" m="xs" disabled={most >= 1_000} onClick={() => setMost(1_000)}>
          {most >= 1_000 ? 'Earlier ones: choose a time' : 'Show earlier ones'}
        </Button>
      )}
      {lines.data?.length === 0 && (
        <p className="quiet" style={{ padding: '0 16px' }}>
          {text || level !== 'info' || lane || until ? 'No line fits.' : 'Nothing was said yet.'}
        </p>
      )}
    </section>
  );
}
