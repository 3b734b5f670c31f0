import { Button, Group, Menu, Tabs } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { problemOf, type Plan } from '../../api/client';
import { ConfirmPlan } from '../../shared/ConfirmPlan';
import { count, rate, span } from '../../shared/format';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { BeingDone } from '../../shared/operations/OperationLine';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { StateMark } from '../../shared/StateMark';
import { SoonForgottenNote } from '../../shared/SoonForgotten';
import { When } from '../../shared/When';
import { act, preflightQuery, remove, type Action } from './connectorsQueries';
import { History } from './History';
import { Lanes } from './LaneStrip';
import { LoadBoard } from './LoadBoard';
import { Log } from './Log';
import { Positions } from './Positions';
import { Preflight } from './Preflight';
import { lagText, total } from './progress';

/** What stands before the reason of a state. */
const REASON: Partial<Record<Connector['state'], string>> = {
  halted: 'Needs a person:',
  starting: 'Waits:',
  loading: 'Now:',
  following: 'Waits:',
};

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
  const { part = 'now' } = useParams();
  const [asking, setAsking] = useState<'delete' | 'leave' | null>(null);
  const navigate = useNavigate();
  const to = (next: string) => `/connectors/${connector.id}${next === 'now' ? '' : `/${next}`}`;
  const queries = useQueryClient();
  const action = useMutation({
    mutationFn: (what: { action: Action; lane?: number }) => act(connector.id, what),
    // starting checks anew
    onSettled: () => void queries.invalidateQueries({ queryKey: preflightQuery(connector.id).queryKey }),
  });
  const problem = problemOf(action.error);
  return (
    <div className="page">
      <Heading
        title={connector.name}
        says={
          <>
            {connector.kind === 'topics' ? (
              'Between topics.'
            ) : (
              <>
                {connector.kind === 'source' ? 'Source from ' : 'Sink into '}
                <Link to="/connections">{connector.system}</Link>.
              </>
            )}{' '}
            {connector.guarantee}
          </>
        }
        action={
          <Group gap="xs" wrap="nowrap">
            <Actions connector={connector} busy={action.isPending} onAct={(what) => action.mutate({ action: what })} />
            {!connector.deleting && (
              <Button component={Link} variant="default" to={`/connectors/${connector.id}/edit`}>
                Edit
              </Button>
            )}
            {connector.kind !== 'sink' && (
              <Button
                component={Link}
                variant="default"
                to={`/connectors/new?kind=sink&topics=${connector.tables.map((t) => encodeURIComponent(t.to)).join(',')}`}
              >
                Deliver to a system
              </Button>
            )}
            <Button variant="subtle" color="apricot" disabled={connector.deleting} onClick={() => setAsking('delete')}>
              Delete
            </Button>
          </Group>
        }
      />
      <ProblemNote problem={problem} />
      {connector.reason && (
        <div className="note" role="alert">
          <strong>{REASON[connector.state] ?? 'Tries again by itself:'}</strong> {connector.reason}
          {connector.retry_at && (
            <div className="remedy">
              Next try: <When time={connector.retry_at} />.
            </div>
          )}
        </div>
      )}
      {connector.notes.length > 0 && (
        <div className="note" aria-label="To know">
          <strong>{connector.reason ? 'Besides:' : 'It runs, and this should be known:'}</strong>
          <ul className="notes">
            {connector.notes.slice(0, 8).map((note) => (
              <li key={note}>{note}</li>
            ))}
            {connector.notes.length > 8 && <li>and {count(connector.notes.length - 8)} more</li>}
          </ul>
        </div>
      )}
      <BeingDone
        of={({ subject }) => subject?.id === connector.id}
        said={connector.reason}
        more={({ kind, waits }) =>
          kind === 'delete' && waits ? (
            <Button size="compact-sm" variant="subtle" color="apricot" onClick={() => setAsking('leave')}>
              Delete without clean-up
            </Button>
          ) : null
        }
      />
      <SoonForgottenNote of={(soon) => soon.connector === connector.id} />
      <Figures connector={connector} />
      <Tabs value={part} onChange={(next) => void navigate(to(next ?? 'now'))} keepMounted={false}>
        <Tabs.List mb="md">
          <Tabs.Tab value="now">Now</Tabs.Tab>
          <Tabs.Tab value="positions">Positions</Tabs.Tab>
          <Tabs.Tab value="log">Log</Tabs.Tab>
          <Tabs.Tab value="history">History and versions</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="now">
          <LoadBoard connector={connector} />
          <Lanes
            connector={connector}
            busy={action.isPending && action.variables.action === 'restart'}
            onRestart={(lane) => action.mutate({ action: 'restart', lane })}
          />
          {!connector.deleting && <Preflight connector={connector} />}
        </Tabs.Panel>
        <Tabs.Panel value="positions">
          <Positions connector={connector} />
        </Tabs.Panel>
        <Tabs.Panel value="log">
          <Log connector={connector} />
        </Tabs.Panel>
        <Tabs.Panel value="history">
          <History connector={connector} />
        </Tabs.Panel>
      </Tabs>
      {asking && (
        <ConfirmPlan
          name={connector.name}
          title={`Delete ${connector.name}${asking === 'leave' ? ', its system is gone' : ''}`}
          action={asking === 'leave' ? 'Delete without clean-up' : 'Delete the connector'}
          look={() => remove(connector.id, asking === 'leave', null) as Promise<Plan>}
          carryOut={(tag) => remove(connector.id, asking === 'leave', tag)}
          onDone={() => {
            setAsking(null);
            void navigate('/connectors');
          }}
          onClose={() => setAsking(null)}
        >
          <Remains connector={connector} />
        </ConfirmPlan>
      )}
    </div>
  );
}

function Actions({ connector, busy, onAct }: { connector: Connector; busy: boolean; onAct: (what: Action) => void }) {
  if (connector.deleting) return null;
  const { state } = connector;
  if (state === 'draft' || state === 'stopped')
    return (
      <Button loading={busy} onClick={() => onAct('start')}>
        Start
      </Button>
    );
  return (
    <>
      {state === 'paused' && (
        <Button loading={busy} onClick={() => onAct('start')}>
          Resume
        </Button>
      )}
      {(state === 'halted' || state === 'retrying') && (
        <Button loading={busy} onClick={() => onAct('start')}>
          Try again now
        </Button>
      )}
      {state !== 'paused' && (
        <Button variant="default" loading={busy} onClick={() => onAct('pause')}>
          Pause
        </Button>
      )}
      <Menu position="bottom-end">
        <Menu.Target>
          <Button variant="default" disabled={busy}>
            More
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          {state !== 'paused' && <Menu.Item onClick={() => onAct('restart')}>Start all lanes anew</Menu.Item>}
          <Menu.Item onClick={() => onAct('stop')}>Stop: no runner has it, its place is kept</Menu.Item>
        </Menu.Dropdown>
      </Menu>
    </>
  );
}

/** What stays when it is deleted. */
function Remains({ connector }: { connector: Connector }) {
  const to = connector.tables.map((t) => t.to).join(', ');
  if (to === '') return null;
  const carried = connector.tables.reduce((sum, t) => sum + total(t.counts), 0);
  return connector.kind === 'source' ? (
    <p>
      The topics stay, with the {count(carried)} changes it wrote: {to}.
    </p>
  ) : (
    <p>
      {connector.kind === 'topics' ? 'The topics it wrote stay' : 'The rows it delivered stay'}: {to}.
    </p>
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
      {connector.quarantined > 0 && (
        <div className="figure" data-tone="warn">
          <div className="label">In quarantine</div>
          <div className="value">
            <Link to={`/quarantine?connector=${connector.id}`} style={{ color: 'inherit' }}>
              {count(connector.quarantined)}
            </Link>
          </div>
        </div>
      )}
      {connector.passed_over > 0 && (
        <div className="figure" data-tone="warn">
          <div className="label">Passed over</div>
          <div className="value">
            <Link to={`/connectors/${connector.id}/history`} style={{ color: 'inherit' }}>
              {count(connector.passed_over)}
            </Link>
          </div>
        </div>
      )}
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
