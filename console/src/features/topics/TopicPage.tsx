import { Button, Group, Tabs } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { bytes, count } from '../../shared/format';
import { useKeptCurrent, useLiveConnectors } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { calledProducer } from '../../shared/producersQuery';
import { NewReader } from '../../shared/readers/NewReader';
import { readersQuery, type Reader } from '../../shared/readers/readersQueries';
import { ReadersTable } from '../../shared/readers/ReadersTable';
import { SoonForgottenNote } from '../../shared/SoonForgotten';
import { Append } from './Append';
import { keeps } from './keeps';
import { Producers } from './Producers';
import { Publish } from './Publish';
import { Records } from './Records';
import { Rulers } from './Rulers';
import { Settings } from './Settings';
import { Size } from './Size';
import { topicQuery, type TopicRecord } from './topicsQueries';

const PARTS = [
  ['records', 'Records'],
  ['readers', 'Readers'],
  ['producers', 'Producers'],
  ['size', 'Size and rate'],
  ['publish', 'Publish'],
  ['settings', 'Settings'],
] as const;

/** One topic: what it holds by partition, who writes and reads it, its records, readers and settings. */
export function TopicPage() {
  const { name = '', part = 'records' } = useParams();
  const navigate = useNavigate();
  const { held } = useLiveConnectors();
  const topic = useQuery({ ...topicQuery(name), ...useKeptCurrent('topic') });
  const readers = useQuery({ ...readersQuery, ...useKeptCurrent('reader') });
  const [appending, setAppending] = useState<{ former: TopicRecord | null } | null>(null);
  const own = (readers.data ?? []).filter((r) => r.topics.includes(name));
  const found = topic.data;
  return (
    <div className="page">
      <Heading
        title={name}
        says={found && <Users topic={found} />}
        action={
          <Group gap="sm" wrap="nowrap">
            <Button
              component={Link}
              variant="default"
              to={`/connectors/new?kind=sink&topics=${encodeURIComponent(name)}`}
            >
              Deliver to a system
            </Button>
            <Button disabled={!found} onClick={() => setAppending({ former: null })}>
              Append a record
            </Button>
          </Group>
        }
      />
      <ProblemNote problem={found ? null : problemOf(topic.error)} />
      <SoonForgottenNote of={(soon) => soon.topic === name} />
      {found && (
        <>
          <div className="figures">
            <Figure label="Records" value={count(found.records)} />
            <Figure label="Stored" value={bytes(found.bytes)} unit="compressed" />
            <Figure label="Partitions" value={count(found.partitions)} />
            <Figure label="Readers" value={count(own.length)} />
          </div>
          <Rulers topic={name} partitions={found.partition_list} readers={own} />
          <Tabs
            value={part}
            onChange={(value) =>
              void navigate(`/topics/${encodeURIComponent(name)}${value === 'records' ? '' : `/${value}`}`)
            }
            keepMounted={false}
          >
            <Tabs.List mb="md">
              {PARTS.map(([value, label]) => (
                <Tabs.Tab key={value} value={value}>
                  {label}
                </Tabs.Tab>
              ))}
            </Tabs.List>
            <Tabs.Panel value="records">
              <Records
                key={name}
                name={name}
                partitions={found.partition_list}
                onReuse={(former) => setAppending({ former })}
              />
            </Tabs.Panel>
            <Tabs.Panel value="readers">
              <Readers topic={name} readers={own} problem={readers.data ? null : readers.error} />
            </Tabs.Panel>
            <Tabs.Panel value="producers">
              <Producers topic={name} held={held} />
            </Tabs.Panel>
            <Tabs.Panel value="size">
              <Size name={name} />
            </Tabs.Panel>
            <Tabs.Panel value="publish">
              <Publish name={name} />
            </Tabs.Panel>
            <Tabs.Panel value="settings">
              <Settings topic={found} />
            </Tabs.Panel>
          </Tabs>
          {appending && (
            <Append
              name={name}
              partitions={found.partitions}
              former={appending.former}
              onClose={() => setAppending(null)}
            />
          )}
        </>
      )}
    </div>
  );
}

function Users({ topic }: { topic: Schemas['Topic'] }) {
  const list = (names: string[], none: string) => (names.length > 0 ? names.join(', ') : none);
  const writers = [...topic.written_by, ...topic.producers.map(calledProducer)];
  return (
    <>
      Written by {list(writers, 'nothing yet')}; read by {list(topic.read_by, 'no connector')}. Keeps{' '}
      {keeps(topic.settings)}.
    </>
  );
}

function Readers({ topic, readers, problem }: { topic: string; readers: Reader[]; problem: unknown }) {
  const [making, setMaking] = useState(false);
  return (
    <div className="sheet">
      <div className="tools">
        <span className="quiet" style={{ flex: 1 }}>
          Applications that read this topic under a name. Connectors keep their positions themselves.
        </span>
        <Button variant="default" size="sm" onClick={() => setMaking(true)}>
          Make a reader
        </Button>
      </div>
      <ProblemNote problem={problemOf(problem)} />
      {readers.length === 0 ? (
        <div className="empty">
          <strong>No reader of this topic</strong>
          <p>A reader goes on from where it committed, and can be moved when something went wrong.</p>
        </div>
      ) : (
        <ReadersTable readers={readers} topic={topic} />
      )}
      {making && <NewReader chosen={[topic]} onClose={() => setMaking(false)} />}
    </div>
  );
}
