import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { bytes, count } from '../../shared/format';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { topicsQuery } from '../../shared/topicsQuery';
import { KeeperLine } from './KeeperLine';
import { NewTopic } from './NewTopic';
import { TopicsTable } from './TopicsTable';

export function TopicsPage() {
  const topics = useQuery({ ...topicsQuery, ...useKeptCurrent('topic') });
  const [filter, setFilter] = useFilter();
  const [search, setSearch] = useSearchParams();
  const making = search.get('new') === '1';
  const make = (on: boolean) => setSearch(on ? { new: '1' } : {}, { replace: true });
  const all = topics.data ?? [];
  const fitting = all.filter((t) => fits(filter, t.name, ...t.written_by, ...t.read_by));
  return (
    <div className="page">
      <Heading
        title="Topics"
        says="Durable, ordered logs of records. What reads and writes each, and how much it holds."
        action={<Button onClick={() => make(true)}>Make a topic</Button>}
      />
      <ProblemNote problem={topics.data ? null : problemOf(topics.error)} />
      {topics.data?.length === 0 && (
        <Blank
          title="No topic yet"
          action={
            <Button component={Link} to="/connectors/new?kind=source" variant="default">
              Build a source
            </Button>
          }
        >
          A source connector makes a topic for each table it captures; applications append to topics that you make.
        </Blank>
      )}
      {all.length > 0 && (
        <>
          <div className="figures">
            <Figure label="Topics" value={count(all.length)} />
            <Figure label="Records" value={count(all.reduce((sum, t) => sum + t.records, 0))} />
            <Figure label="Stored" value={bytes(all.reduce((sum, t) => sum + t.bytes, 0))} unit="compressed" />
          </div>
          <div className="sheet">
            <div className="tools">
              <FilterInput label="Topic or connector" value={filter} onChange={setFilter} />
              <span className="quiet">
                {count(fitting.length)} of {count(all.length)}
              </span>
            </div>
            <TopicsTable topics={fitting} />
          </div>
        </>
      )}
      <KeeperLine />
      {making && <NewTopic onClose={() => make(false)} />}
    </div>
  );
}
