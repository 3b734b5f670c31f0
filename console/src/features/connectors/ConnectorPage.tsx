import { Button, Group, Table } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { problemOf } from '../../api/client';
import { ConfirmByName } from '../../shared/ConfirmByName';
import { count, rate, span, timeLeft } from '../../shared/format';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { Checks, ProblemNote } from '../../shared/ProblemNote';
import { StateMark } from '../../shared/StateMark';
import { When } from '../../shared/When';
import { act, remove } from './connectorsQueries';
import { KINDS, lagText, total } from './progress';

/** One connector: its state, what it carried by table and kind, and what can be done with it. */
export function ConnectorPage() {
  const { id } = useParams();
  const { connectors, problem } = useLiveConnectors();
  const connector = connectors?.find((c) => c.id === id);
  if (!connector) {
    return (
      <div className="page">
        <ProblemNote problem={problem} />
        {connectors && (
          <Heading title="There is no such connector" says="It was deleted, or the address is misspelled." />
        )}
        <Link to="/connectors">All connectors</Link>
      </div>
    );
  }
  return <One connector={connector} />;
}

function One({ connector }: { connector: Connector }) {
  const [asking, setAsking] = useState(false);
  const navigate = useNavigate();
  const action = useMutation({ mutationFn: (what: 'start' | 'pause') => act(connector.id, what) });
  const deletion = useMutation({
    mutationFn: () => remove(connector.id),
    onSuccess: () => {
      setAsking(false);
      void navigate('/connectors');
    },
  });
  const problem = problemOf(action.error);
  return (
    <div className="page">
      <Heading
        title={connector.name}
        says={
          <>
            {connector.kind === 'source' ? 'Source from ' : 'Sink into '}
            <Link to="/connections">{connector.system}</Link>. {connector.guarantee}
          </>
        }
        action={
          <Group gap="xs" wrap="nowrap">
            <Actions connector={connector} busy={action.isPending} onAct={(what) => action.mutate(what)} />
            {connector.kind === 'source' && (
              <Button
                component={Link}
                variant="default"
                to={`/connectors/new?kind=sink&topics=${connector.tables.map((t) => encodeURIComponent(t.to)).join(',')}`}
              >
                Deliver to a system
              </Button>
            )}
            <Button variant="subtle" color="apricot" disabled={connector.deleting} onClick={() => setAsking(true)}>
              Delete
            </Button>
          </Group>
        }
      />
      <ProblemNote problem={problem} />
      {problem && problem.checks && problem.checks.length > 0 && <Checks checks={problem.checks} />}
      {connector.reason && (
        <div className="note" role="alert">
          <strong>{connector.state === 'halted' ? 'Needs a person.' : 'Tries again by itself.'}</strong>{' '}
          {connector.reason}
          {connector.retry_at && (
            <div className="remedy">
              Next try: <When time={connector.retry_at} />.
            </div>
          )}
        </div>
      )}
      <Figures connector={connector} />
      <Tables connector={connector} />
      {asking && (
        <ConfirmByName
          name={connector.name}
          title={`Delete ${connector.name}`}
          action="Delete the connector"
          problem={problemOf(deletion.error)}
          busy={deletion.isPending}
          onClose={() => setAsking(false)}
          onConfirm={() => deletion.mutate()}
        >
          <Losses connector={connector} />
        </ConfirmByName>
      )}
    </div>
  );
}

function Actions({
  connector,
  busy,
  onAct,
}: {
  connector: Connector;
  busy: boolean;
  onAct: (what: 'start' | 'pause') => void;
}) {
  if (connector.deleting) return null;
  if (connector.state === 'draft')
    return (
      <Button loading={busy} onClick={() => onAct('start')}>
        Start
      </Button>
    );
  if (connector.state === 'paused')
    return (
      <Button loading={busy} onClick={() => onAct('start')}>
        Resume
      </Button>
    );
  return (
    <>
      {(connector.state === 'halted' || connector.state === 'retrying') && (
        <Button loading={busy} onClick={() => onAct('start')}>
          Try again now
        </Button>
      )}
      <Button variant="default" loading={busy} onClick={() => onAct('pause')}>
        Pause
      </Button>
    </>
  );
}

/** What a deletion takes away, in records and systems. */
function Losses({ connector }: { connector: Connector }) {
  const carried = connector.tables.reduce((sum, t) => sum + total(t.counts), 0);
  return connector.kind === 'source' ? (
    <>
      <p>
        Its replication slot and publication in <strong>{connector.system}</strong> are removed, and with them its place
        in that server's log: a new connector would load every row again.
      </p>
      <p>
        The topics stay, with the {count(carried)} changes it wrote: {connector.tables.map((t) => t.to).join(', ')}.
      </p>
    </>
  ) : (
    <>
      <p>
        Its positions in <strong>{connector.system}</strong> are removed: a new connector would deliver from the start
        of its topics again.
      </p>
      <p>The rows it delivered stay: {connector.tables.map((t) => t.to).join(', ')}.</p>
    </>
  );
}

function Figures({ connector }: { connector: Connector }) {
  return (
    <div className="figures">
      <div className="figure">
        <div className="label">State</div>
        <div className="value" style={{ fontSize: '1.5rem' }}>
          <StateMark state={connector.state} deleting={connector.deleting} />
        </div>
        {connector.since && (
          <div className="quiet">
            <When time={connector.since} />
          </div>
        )}
      </div>
      <Figure label="Changes a second" value={rate(connector.rate_per_s)} />
      <Figure label="Commit to done" value={connector.latency_ms == null ? '–' : span(connector.latency_ms)} />
      <div className="figure">
        <div className="label">Lag</div>
        <div className="value" style={{ whiteSpace: 'normal', fontSize: '1.5rem' }}>
          {lagText(connector)}
        </div>
      </div>
      {connector.position && (
        <div className="figure">
          <div className="label">Source position</div>
          <div className="value mono" style={{ fontSize: '1.2rem', lineHeight: '2.2rem' }}>
            {connector.position}
          </div>
        </div>
      )}
    </div>
  );
}

function Tables({ connector }: { connector: Connector }) {
  const source = connector.kind === 'source';
  return (
    <div className="sheet">
      <h2>{source ? 'Tables and the topics they go to' : 'Topics and the tables they go to'}</h2>
      <Table.ScrollContainer minWidth={760}>
        <Table aria-label="Changes by table and kind">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>{source ? 'Table' : 'Topic'}</Table.Th>
              <Table.Th>{source ? 'Topic' : 'Table'}</Table.Th>
              {KINDS.map((kind) => (
                <Table.Th key={kind} ta="right">
                  {kind}
                </Table.Th>
              ))}
              <Table.Th>Initial load</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {connector.tables.map((table) => (
              <Table.Tr key={table.from}>
                <Table.Td className="mono">{source ? table.from : <TopicLink name={table.from} />}</Table.Td>
                <Table.Td className="mono">{source ? <TopicLink name={table.to} /> : table.to}</Table.Td>
                {KINDS.map((kind) => (
                  <Table.Td key={kind} className="number" data-kind={kind}>
                    {count(table.counts[kind])}
                  </Table.Td>
                ))}
                <Table.Td miw={170}>
                  <Load table={table} connector={connector} />
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
    </div>
  );
}

function TopicLink({ name }: { name: string }) {
  return <Link to={`/topics/${encodeURIComponent(name)}`}>{name}</Link>;
}

function Load({ table, connector }: { table: Connector['tables'][number]; connector: Connector }) {
  const { load_total: expected, counts } = table;
  if (connector.kind === 'sink') return <span className="quiet">in the topic's order</span>;
  if (expected == null) return connector.state === 'draft' ? <span className="quiet">at the start</span> : <>done</>;
  if (counts.load === 0) return <span className="quiet">waits its turn</span>;
  const all = Math.max(expected, counts.load);
  const left = timeLeft(counts.load, all, connector.rate_per_s);
  return (
    <>
      {count(counts.load)} of about {count(all)}
      {left && `, ${left} left`}
      <div className="bar" role="presentation">
        <div style={{ width: `${(100 * counts.load) / Math.max(1, all)}%` }} />
      </div>
    </>
  );
}
