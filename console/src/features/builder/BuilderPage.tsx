import { SegmentedControl } from '@mantine/core';
import { useReducer, useState } from 'react';
import { useSearchParams } from 'react-router';

import { Heading } from '../../shared/Page';
import { begin, reduce, type Draft } from './builder';
import { FinishStage } from './FinishStage';
import type { Change, Check } from './Stage';
import { SystemStage } from './SystemStage';
import { TablesStage } from './TablesStage';
import { TopicsStage } from './TopicsStage';

/** One page, left to right: from where, which tables or topics, to where, and the start. */
export function BuilderPage() {
  const [search] = useSearchParams();
  const kind = search.get('kind') === 'sink' ? 'sink' : 'source';
  const topics = (search.get('topics') ?? '').split(',').filter(Boolean);
  return <Builder key={`${kind} ${topics.join()}`} kind={kind} topics={topics} />;
}

function Builder({ kind, topics }: { kind: Draft['kind']; topics: string[] }) {
  const [, setSearch] = useSearchParams();
  const [draft, dispatch] = useReducer(reduce, null, () => begin(kind, topics));
  const [failed, setFailed] = useState<Check[]>([]);
  const change: Change = (action) => {
    setFailed([]);
    dispatch(action);
  };
  const at = (...fields: string[]) => failed.filter((c) => fields.includes(c.field ?? ''));
  const ofSystem = at('connection', 'host', 'port', 'user', 'password', 'database');
  return (
    <div className="page">
      <Heading
        title={draft.kind === 'source' ? 'Build a source connector' : 'Build a sink connector'}
        says={
          draft.kind === 'source'
            ? 'It copies the rows that are there into topics, then carries every change as it commits.'
            : 'It applies the changes of topics to tables of another system, each once and in order.'
        }
        action={
          <SegmentedControl
            aria-label="Kind of connector"
            value={draft.kind}
            onChange={(next) => setSearch({ kind: next }, { replace: true })}
            data={[
              { value: 'source', label: 'Source' },
              { value: 'sink', label: 'Sink' },
            ]}
          />
        }
      />
      <div className="stages">
        {draft.kind === 'source' ? (
          <>
            <SystemStage title="From" draft={draft} change={change} failed={ofSystem} />
            <TablesStage draft={draft} change={change} failed={at('tables')} />
          </>
        ) : (
          <>
            <TopicsStage draft={draft} change={change} failed={at('topics')} />
            <SystemStage title="To" draft={draft} change={change} failed={ofSystem} />
          </>
        )}
        <FinishStage draft={draft} change={change} onFailed={setFailed} />
      </div>
    </div>
  );
}
