import { Table } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { count } from '../../shared/format';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { BeingDone } from '../../shared/operations/OperationLine';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';
import { When } from '../../shared/When';
import { Hours } from './Hours';
import { causesQuery, type Cause } from './quarantineQueries';
import { parts } from './said';
import { Settle } from './Settle';

const WHILE: Record<string, string> = { read: 'while reading', shape: 'while shaping', write: 'while writing' };

/** What could not be delivered, by cause: how much, since when, and what helps. */
export function QuarantinePage() {
  const { held } = useLiveConnectors();
  const causes = useQuery({ ...causesQuery, refetchInterval: held ? false : 2_000 });
  const [filter, setFilter] = useFilter();
  const [search] = useSearchParams();
  const connector = search.get('connector');
  const all = (causes.data ?? []).filter((c) => connector === null || c.connector === connector);
  const shown = all.filter((c) => fits(filter, c.name, c.finding, ...c.topics));
  const waiting = all.reduce((sum, c) => sum + c.waiting + c.asked, 0);
  const soon = all.filter((c) => c.expires_soon);
  const lastHour = all.reduce((sum, c) => sum + (c.by_hour[23] ?? 0), 0);
  return (
    <div className="page">
      <Heading
        title="Quarantine"
        says={
          connector === null ? (
            'Records that could not be handled wait here with everything needed to try them again.'
          ) : (
            <>
              Of <Link to={`/connectors/${connector}`}>{all[0]?.name ?? 'one connector'}</Link> alone.{' '}
              <Link to="/quarantine">Show all</Link>
            </>
          )
        }
      />
      <ProblemNote problem={causes.data ? null : problemOf(causes.error)} />
      <BeingDone of={(o) => o.kind === 'retry' && (connector === null || o.subject?.id === connector)} />
      {causes.data && all.length === 0 && (
        <Blank title="Nothing waits">
          A record that a sink cannot read, or that its target refuses, comes here while all others go on. Each
          connector says under “Guarantee and start” whether it does so or halts.
        </Blank>
      )}
      {all.length > 0 && (
        <>
          <div className="figures">
            <Figure label="Records that wait" value={count(waiting)} tone="warn" />
            <Figure label="Causes" value={count(all.length)} />
            <Figure label="Came in the last hour" value={count(lastHour)} />
            <Figure label="Connectors" value={count(new Set(all.map((c) => c.connector)).size)} />
          </div>
          {soon.length > 0 && (
            <div className="note" role="alert">
              <strong>Within a day</strong> the first records of {count(soon.length)}{' '}
              {soon.length === 1 ? 'cause' : 'causes'} are forgotten: try them again or discard them before.
            </div>
          )}
          <div className="sheet">
            <div className="tools">
              <FilterInput label="Connector, topic or finding" value={filter} onChange={setFilter} />
              <span className="quiet">
                {count(shown.length)} of {count(all.length)} {all.length === 1 ? 'cause' : 'causes'}
              </span>
            </div>
            <Causes causes={shown} />
          </div>
        </>
      )}
    </div>
  );
}

function Causes({ causes }: { causes: Cause[] }) {
  const navigate = useNavigate();
  return (
    <Table.ScrollContainer minWidth={860}>
      <Table aria-label="Causes" onKeyDown={moveInList}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>What was found</Table.Th>
            <Table.Th ta="right">Wait</Table.Th>
            <Table.Th>Last 24 hours</Table.Th>
            <Table.Th>First, last</Table.Th>
            <Table.Th>Forgotten</Table.Th>
            <Table.Th />
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {causes.map((cause) => {
            const to = `/quarantine/${cause.connector}/${cause.cause}`;
            const { found, remedy } = parts(cause.finding);
            return (
              <Table.Tr key={to} className="openable" onClick={() => void navigate(to)}>
                <Table.Td maw={440}>
                  <Link className="name" data-row to={to} onClick={(e) => e.stopPropagation()}>
                    {found}
                  </Link>
                  {remedy && <div>Remedy: {remedy}</div>}
                  <div className="quiet">
                    {cause.name} · {WHILE[cause.step] ?? cause.step} · {cause.topics.join(', ')}
                  </div>
                </Table.Td>
                <Table.Td className="number">
                  {count(cause.waiting)}
                  {cause.asked > 0 && <div className="quiet">{count(cause.asked)} asked for</div>}
                </Table.Td>
                <Table.Td>
                  <Hours byHour={cause.by_hour} />
                </Table.Td>
                <Table.Td>
                  <When time={cause.first_at} />
                  <div className="quiet">
                    <When time={cause.last_at} />
                  </div>
                </Table.Td>
                <Table.Td style={cause.expires_soon ? { color: 'var(--warn)' } : undefined}>
                  <When time={cause.expires_at} />
                </Table.Td>
                <Table.Td onClick={(e) => e.stopPropagation()}>
                  <Settle which={{ connector: cause.connector, cause: cause.cause }} records={cause.waiting} quietly />
                </Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
      {causes.length === 0 && (
        <p className="quiet" style={{ padding: '0 16px' }}>
          No cause fits the filter.
        </p>
      )}
    </Table.ScrollContainer>
  );
}
