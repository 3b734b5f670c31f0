import { Group, Loader, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { problemOf } from '../../api/client';
import { fits } from '../../shared/Filter';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import type { SinkDraft } from './builder';
import { topicsQuery } from '../../shared/topicsQuery';
import { Failed, Stage, type Change, type Check } from './Stage';

const SHOWN = 200;

export function TopicsStage({ draft, change, failed }: { draft: SinkDraft; change: Change; failed: Check[] }) {
  const topics = useQuery(topicsQuery);
  const [filter, setFilter] = useState('');
  const fitting = (topics.data ?? []).filter((t) => fits(filter, t.name));
  const shown = [...fitting.filter((t) => draft.topics[t.name]), ...fitting.filter((t) => !draft.topics[t.name])].slice(
    0,
    SHOWN,
  );
  return (
    <Stage title="From which topics">
      <Failed checks={failed} />
      <ProblemNote problem={topics.data ? null : problemOf(topics.error)} />
      {topics.isFetching && !topics.data && <Loader size="sm" />}
      {topics.data?.length === 0 && (
        <p>
          There is no topic yet. <Link to="/connectors/new?kind=source">Build a source</Link> first: it makes them.
        </p>
      )}
      {topics.data && topics.data.length > 0 && (
        <>
          <TextInput
            placeholder="Search topics"
            aria-label="Search topics"
            value={filter}
            onChange={(e) => setFilter(e.currentTarget.value)}
          />
          <div className="picker" style={{ marginTop: 10 }}>
            {shown.map((topic) => (
              <Row key={topic.name} topic={topic.name} records={topic.records} draft={draft} change={change} />
            ))}
          </div>
          <p className="quiet">
            {count(Object.keys(draft.topics).length)} of {count(topics.data.length)} chosen
          </p>
        </>
      )}
    </Stage>
  );
}

interface RowProps {
  topic: string;
  records: number;
  draft: SinkDraft;
  change: Change;
}

function Row({ topic, records, draft, change }: RowProps) {
  const table = draft.topics[topic];
  return (
    <div className="pick">
      <label>
        <input
          type="checkbox"
          checked={table !== undefined}
          onChange={(event) => change({ type: 'topic', topic, chosen: event.currentTarget.checked })}
        />
        <span className="mono" style={{ overflowWrap: 'anywhere' }}>
          {topic}
        </span>
        <span className="quiet number">{count(records)} records</span>
      </label>
      {table && (
        <Group className="under" gap={6} wrap="nowrap">
          <TextInput
            size="xs"
            w={120}
            aria-label={`Schema for ${topic}`}
            leftSection="to"
            value={table.schema}
            onChange={(e) => change({ type: 'tableOf', topic, table: { ...table, schema: e.currentTarget.value } })}
          />
          <TextInput
            size="xs"
            style={{ flex: 1 }}
            aria-label={`Table for ${topic}`}
            value={table.table}
            onChange={(e) => change({ type: 'tableOf', topic, table: { ...table, table: e.currentTarget.value } })}
          />
        </Group>
      )}
    </div>
  );
}
