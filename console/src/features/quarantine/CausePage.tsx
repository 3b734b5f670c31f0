import { Button, SegmentedControl } from '@mantine/core';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { count } from '../../shared/format';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { Hours } from './Hours';
import { causesQuery, recordsQuery } from './quarantineQueries';
import { KeptRecord } from './KeptRecord';
import { parts } from './said';
import { Settle } from './Settle';

const STATES = [
  { value: 'open', label: 'Wait' },
  { value: 'delivered', label: 'Delivered' },
  { value: 'superseded', label: 'Superseded' },
  { value: 'discarded', label: 'Discarded' },
];

/** What the steps of records are given by: the topic, at a source the table that goes there. */
function shapeOf(connector: Connector, topics: string[]): string {
  const topic = topics[0] ?? '';
  return connector.kind === 'source' ? (connector.tables.find((t) => t.to === topic)?.from ?? topic) : topic;
}

/** The records of one cause: look, mend, try again, give up. */
export function CausePage() {
  const { connector = '', cause = '' } = useParams();
  const { connectors, held } = useLiveConnectors();
  const [search, setSearch] = useSearchParams();
  const [most, setMost] = useState(50);
  const state = search.get('state') ?? 'open';
  const every = held ? false : 2_000;
  const causes = useQuery({ ...causesQuery, refetchInterval: every });
  const records = useQuery({
    ...recordsQuery(connector, cause, state, most),
    placeholderData: keepPreviousData,
    refetchInterval: every,
  });
  const group = causes.data?.find((c) => c.connector === connector && c.cause === cause);
  const of = connectors?.find((c) => c.id === connector);
  const name = of?.name ?? 'a connector that is gone';
  const all = records.data ?? [];
  const finding = group?.finding ?? all[0]?.finding ?? 'Nothing of this cause waits any more';
  const { found, remedy } = parts(finding);
  return (
    <div className="page">
      <Heading
        title={found}
        says={
          <>
            {remedy && <>Remedy: {remedy}. </>}
            <Link to={`/connectors/${connector}`}>{name}</Link>
            {group && <>, {group.topics.join(', ')}</>}
          </>
        }
        action={
          group && (
            <>
              {group.step !== 'read' && of && (
                <Button
                  variant="default"
                  component={Link}
                  to={`/connectors/${connector}/edit?shape=${encodeURIComponent(shapeOf(of, group.topics))}&cause=${cause}`}
                >
                  Change the shape on these
                </Button>
              )}
              <Settle which={{ connector, cause }} records={group.waiting} />
            </>
          )
        }
      />
      <ProblemNote problem={problemOf(records.error)} />
      <section className="sheet" aria-label="Records">
        <div className="tools" style={{ alignItems: 'center' }}>
          <SegmentedControl
            size="sm"
            aria-label="State"
            data={STATES}
            value={state}
            onChange={(value) =>
              setSearch(
                (before) => {
                  if (value === 'open') before.delete('state');
                  else before.set('state', value);
                  return before;
                },
                { replace: true },
              )
            }
          />
          {group && <Hours byHour={group.by_hour} />}
          {group && (
            <span className="quiet">
              {count(group.waiting)} wait{group.asked > 0 && `, ${count(group.asked)} are asked for`}
            </span>
          )}
        </div>
        {all.map((record) => (
          <KeptRecord key={record.id} record={record} known={finding} />
        ))}
        {records.data?.length === 0 && (
          <p className="quiet" style={{ padding: '0 16px' }}>
            {state === 'open' ? 'Nothing of this cause waits.' : 'None.'}
          </p>
        )}
        {all.length >= most && (
          <Button m="xs" variant="subtle" disabled={most >= 500} onClick={() => setMost(500)}>
            Show more
          </Button>
        )}
      </section>
    </div>
  );
}
