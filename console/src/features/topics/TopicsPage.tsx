import { Button, Table } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { bytes, count } from '../../shared/format';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';
import { When } from '../../shared/When';
import { topicsQuery } from './topicsQueries';

/** Rows drawn at once; the filter finds the others. */
const SHOWN = 200;

export function TopicsPage() {
  const { held } = useLiveConnectors();
  const topics = useQuery({ ...topicsQuery, refetchInterval: held ? false : topicsQuery.refetchInterval });
  const [filter, setFilter] = useFilter();
  const navigate = useNavigate();
  const all = topics.data ?? [];
  const fitting = all.filter((t) => fits(filter, t.name, ...t.written_by, ...t.read_by));
  return (
    <div className="page">
      <Heading
        title="Topics"
        says="Durable, ordered logs of records. What reads and writes each, and how much it holds."
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
          A source connector makes a topic for each table it captures.
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
                {fitting.length > SHOWN && `, the first ${SHOWN} shown`}
              </span>
            </div>
            <Table.ScrollContainer minWidth={760}>
              <Table aria-label="Topics" onKeyDown={moveInList}>
                <Table.Thead>
                  <Table.Tr>
                    <Table.Th>Name</Table.Th>
                    <Table.Th ta="right">Records</Table.Th>
                    <Table.Th ta="right">Stored</Table.Th>
                    <Table.Th ta="right">Partitions</Table.Th>
                    <Table.Th>Written by</Table.Th>
                    <Table.Th>Read by</Table.Th>
                    <Table.Th>Made</Table.Th>
                  </Table.Tr>
                </Table.Thead>
                <Table.Tbody>
                  {fitting.slice(0, SHOWN).map((topic) => {
                    const to = `/topics/${encodeURIComponent(topic.name)}`;
                    return (
                      <Table.Tr key={topic.name} className="openable" onClick={() => void navigate(to)}>
                        <Table.Td maw={420}>
                          <Link className="name" data-row to={to} onClick={(event) => event.stopPropagation()}>
                            {topic.name}
                          </Link>
                        </Table.Td>
                        <Table.Td className="number">{count(topic.records)}</Table.Td>
                        <Table.Td className="number">{bytes(topic.bytes)}</Table.Td>
                        <Table.Td className="number">{topic.partitions}</Table.Td>
                        <Table.Td>{topic.written_by.join(', ') || <span className="quiet">nothing</span>}</Table.Td>
                        <Table.Td>{topic.read_by.join(', ') || <span className="quiet">nothing</span>}</Table.Td>
                        <Table.Td>
                          <When time={topic.created_at} />
                        </Table.Td>
                      </Table.Tr>
                    );
                  })}
                </Table.Tbody>
              </Table>
            </Table.ScrollContainer>
          </div>
        </>
      )}
    </div>
  );
}
