import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { bytes, count } from '../../shared/format';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { Records } from './Records';
import { topicQuery } from './topicsQueries';

/** One topic: what it holds by partition, who writes and reads it, and its records. */
export function TopicPage() {
  const { name = '' } = useParams();
  const { held } = useLiveConnectors();
  const query = topicQuery(name);
  const topic = useQuery({ ...query, refetchInterval: held ? false : query.refetchInterval });
  return (
    <div className="page">
      <Heading
        title={name}
        says={topic.data && <Users topic={topic.data} />}
        action={
          <Button
            component={Link}
            variant="default"
            to={`/connectors/new?kind=sink&topics=${encodeURIComponent(name)}`}
          >
            Deliver to a system
          </Button>
        }
      />
      <ProblemNote problem={topic.data ? null : problemOf(topic.error)} />
      {topic.data && (
        <>
          <div className="figures">
            <Figure label="Records" value={count(topic.data.records)} />
            <Figure label="Stored" value={bytes(topic.data.bytes)} unit="compressed" />
            <Figure label="Partitions" value={count(topic.data.partitions)} />
          </div>
          <Rulers partitions={topic.data.partition_list} />
          <Records key={name} name={name} partitions={topic.data.partition_list} />
        </>
      )}
    </div>
  );
}

function Users({ topic }: { topic: Schemas['Topic'] }) {
  const list = (names: string[]) => (names.length > 0 ? names.join(', ') : 'nothing');
  return (
    <>
      Written by {list(topic.written_by)}; read by {list(topic.read_by)}.
    </>
  );
}

/** For each partition a ruler from its oldest kept record to its newest, all to one scale. */
function Rulers({ partitions }: { partitions: Schemas['Partition'][] }) {
  const longest = Math.max(1, ...partitions.map((p) => p.next_offset));
  return (
    <div className="sheet" style={{ marginBottom: 18 }}>
      <h2>Offsets kept, by partition</h2>
      <div className="ruler">
        {partitions.map((p) => (
          <Ruler key={p.partition} partition={p} longest={longest} />
        ))}
      </div>
    </div>
  );
}

function Ruler({ partition, longest }: { partition: Schemas['Partition']; longest: number }) {
  const { first_offset: first, next_offset: next } = partition;
  const place = { marginLeft: `${(100 * first) / longest}%`, width: `${(100 * (next - first)) / longest}%` };
  return (
    <>
      <span>partition {partition.partition}</span>
      <div className="line" role="img" aria-label={`offsets ${first} to ${next - 1}`}>
        <div style={place} />
      </div>
      <span className="quiet number">{next === first ? 'empty' : `${count(first)} to ${count(next - 1)}`}</span>
    </>
  );
}
