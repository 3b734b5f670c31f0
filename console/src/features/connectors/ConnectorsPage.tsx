import { Button, Checkbox, SegmentedControl, Table } from '@mantine/core';
import { useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';

import { Blank } from '../../shared/Blank';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { count, rate, span } from '../../shared/format';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';
import { StateMark, toneOf } from '../../shared/StateMark';
import { When } from '../../shared/When';
import { ActOnMany } from './ActOnMany';
import { LaneStrip } from './LaneStrip';
import { lagText, loading } from './progress';
import { Unfinished } from './Unfinished';

const KINDS = ['all', 'source', 'sink', 'topics'] as const;
const KIND_WORDS = { all: 'All', source: 'Sources', sink: 'Sinks', topics: 'Between topics' };

/** The fleet: is anything wrong, what moves, how far behind. */
export function ConnectorsPage() {
  const { connectors, problem } = useLiveConnectors();
  const [filter, setFilter] = useFilter();
  const [search, setSearch] = useSearchParams();
  const kind = search.get('kind') ?? 'all';
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const shown = (connectors ?? []).filter(
    (c) => (kind === 'all' || c.kind === kind) && fits(filter, c.name, c.system, c.state, c.kind),
  );
  const any = connectors !== undefined && connectors.length > 0;
  return (
    <div className="page">
      <Heading
        title="Connectors"
        says="Sources write topics from systems, sinks carry topics into systems, others go between topics."
        action={
          <Button component={Link} to="/connectors/new">
            Build a connector
          </Button>
        }
      />
      <ProblemNote problem={problem} />
      {connectors?.length === 0 && (
        <Blank
          title="Nothing moves yet"
          action={
            <Button component={Link} to="/connectors/new?kind=source" variant="default">
              Build a source
            </Button>
          }
        >
          Begin with a source connector: it captures the tables of a database into topics. A sink then carries those
          topics into another system.
        </Blank>
      )}
      {any && <Sum connectors={connectors} />}
      {/* in one place whether or not there are connectors: what is asked here stays asked when the last one goes */}
      {connectors && <Unfinished kind={any ? kind : 'all'} filter={any ? filter : ''} />}
      {any && (
        <div className="sheet">
          <div className="tools">
            <FilterInput label="Name, system or state" value={filter} onChange={setFilter} />
            <SegmentedControl
              size="sm"
              aria-label="Kind"
              data={KINDS.map((k) => ({
                value: k,
                label: KIND_WORDS[k],
              }))}
              value={kind}
              onChange={(value) =>
                setSearch(
                  (before) => {
                    if (value === 'all') before.delete('kind');
                    else before.set('kind', value);
                    return before;
                  },
                  { replace: true },
                )
              }
            />
            <span className="quiet">
              {count(shown.length)} of {count(connectors.length)}
            </span>
          </div>
          <ActOnMany connectors={shown.filter((c) => chosen.has(c.id))} onDone={() => setChosen(new Set())} />
          <FleetTable connectors={shown} chosen={chosen} onChoose={setChosen} />
        </div>
      )}
    </div>
  );
}

function Sum({ connectors }: { connectors: Connector[] }) {
  const wrong = connectors.filter((c) => toneOf(c.state) === 'warn');
  const behind = Math.max(0, ...connectors.map((c) => c.lag_ms ?? 0));
  const moving = connectors.filter((c) => c.kind === 'source').reduce((sum, c) => sum + c.rate_per_s, 0);
  const running = connectors.filter((c) => toneOf(c.state) === 'well').length;
  return (
    <div className="figures">
      <Figure
        label="Need attention"
        value={count(wrong.length)}
        tone={wrong.length > 0 ? 'warn' : undefined}
        unit={
          wrong.length > 0
            ? wrong
                .map((c) => c.state)
                .slice(0, 2)
                .join(', ')
            : 'all well'
        }
      />
      <Figure label="Running" value={count(running)} unit={`of ${count(connectors.length)}`} />
      <Figure label="Captured now" value={rate(moving)} unit="changes/s" />
      <Figure label="Sink furthest behind" value={behind === 0 ? '0 s' : span(behind)} />
    </div>
  );
}

function FleetTable({
  connectors,
  chosen,
  onChoose,
}: {
  connectors: Connector[];
  chosen: ReadonlySet<string>;
  onChoose: (chosen: ReadonlySet<string>) => void;
}) {
  const navigate = useNavigate();
  const here = connectors.filter((c) => chosen.has(c.id)).length;
  const choose = (ids: string[], on: boolean) => {
    const next = new Set(chosen);
    ids.forEach((id) => (on ? next.add(id) : next.delete(id)));
    onChoose(next);
  };
  return (
    <Table.ScrollContainer minWidth={760}>
      <Table aria-label="Connectors" onKeyDown={moveInList}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th w={40}>
              <Checkbox
                aria-label="Choose all that are shown"
                checked={here > 0 && here === connectors.length}
                indeterminate={here > 0 && here < connectors.length}
                onChange={(e) =>
                  choose(
                    connectors.map((c) => c.id),
                    e.currentTarget.checked,
                  )
                }
              />
            </Table.Th>
            <Table.Th>Name</Table.Th>
            <Table.Th>State</Table.Th>
            <Table.Th>Carries</Table.Th>
            <Table.Th ta="right">Changes/s</Table.Th>
            <Table.Th ta="right">Commit to done</Table.Th>
            <Table.Th>Lag</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {connectors.map((connector) => (
            <Table.Tr
              key={connector.id}
              className="openable"
              onClick={() => void navigate(`/connectors/${connector.id}`)}
            >
              <Table.Td onClick={(e) => e.stopPropagation()}>
                <Checkbox
                  aria-label={`Choose ${connector.name}`}
                  checked={chosen.has(connector.id)}
                  disabled={connector.deleting}
                  onChange={(e) => choose([connector.id], e.currentTarget.checked)}
                />
              </Table.Td>
              <Table.Td maw={360}>
                <Link className="name" data-row to={`/connectors/${connector.id}`} onClick={(e) => e.stopPropagation()}>
                  {connector.name}
                </Link>
                <div className="quiet">
                  {connector.kind === 'topics'
                    ? 'between topics'
                    : `${connector.kind === 'source' ? 'source from' : 'sink into'} ${connector.system}`}
                </div>
              </Table.Td>
              <Table.Td>
                <StateMark state={connector.state} deleting={connector.deleting} />
                {connector.lanes.length > 1 && <LaneStrip lanes={connector.lanes} />}
                {connector.since && (
                  <div className="quiet">
                    <When time={connector.since} />
                  </div>
                )}
              </Table.Td>
              <Table.Td>{carries(connector)}</Table.Td>
              <Table.Td className="number">{rate(connector.rate_per_s)}</Table.Td>
              <Table.Td className="number">{connector.latency_ms == null ? '–' : span(connector.latency_ms)}</Table.Td>
              <Table.Td maw={320}>
                <Lag connector={connector} />
                {connector.quarantined > 0 && (
                  <div>
                    <Link
                      to={`/quarantine?connector=${connector.id}`}
                      onClick={(e) => e.stopPropagation()}
                      style={{ color: 'var(--warn)' }}
                    >
                      {count(connector.quarantined)} in quarantine
                    </Link>
                  </div>
                )}
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {connectors.length === 0 && (
        <p className="quiet" style={{ padding: '0 16px' }}>
          No connector fits the filter.
        </p>
      )}
    </Table.ScrollContainer>
  );
}

function carries(connector: Connector): string {
  const [first, ...rest] = connector.tables;
  if (!first) return 'nothing';
  const name = connector.kind === 'source' ? first.from : first.to;
  return rest.length === 0 ? name : `${connector.tables.length} tables`;
}

function Lag({ connector }: { connector: Connector }) {
  if (connector.reason) return <span style={{ color: 'var(--warn)' }}>{connector.reason}</span>;
  const load = loading(connector);
  return (
    <>
      {lagText(connector)}
      {load && (
        <div className="bar" role="presentation">
          <div style={{ width: `${Math.min(100, (100 * load.done) / Math.max(1, load.total))}%` }} />
        </div>
      )}
    </>
  );
}
