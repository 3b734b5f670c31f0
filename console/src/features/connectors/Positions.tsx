import { Button, Group, Table } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { ConfirmByName } from '../../shared/ConfirmByName';
import { useKindOf } from '../../shared/connections/kinds';
import { cannotLoad, ExistingRowsChoice, type ExistingRows } from '../../shared/ExistingRowsChoice';
import { bytes, count } from '../../shared/format';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { Moving } from '../../shared/readers/Repositioning';
import { beginAnew, moveSink, positionsQuery } from './connectorsQueries';

/** Where a connector stands, what it has yet to deliver, and moving it after seeing what that does. */
export function Positions({ connector }: { connector: Connector }) {
  const { held } = useLiveConnectors();
  const positions = useQuery({ ...positionsQuery(connector.id), refetchInterval: held ? false : 3_000, retry: false });
  const { source, partitions = [] } = positions.data ?? {};
  return (
    <>
      <ProblemNote problem={problemOf(positions.error)} />
      {source && <Source connector={connector} source={source} />}
      {positions.data && !source && <Sink connector={connector} partitions={partitions} />}
    </>
  );
}

function Sink({ connector, partitions }: { connector: Connector; partitions: Schemas['SinkPosition'][] }) {
  const queries = useQueryClient();
  const [moving, setMoving] = useState(false);
  const rests = connector.state === 'paused' || connector.state === 'stopped';
  const parted = partitions.filter((p) => typeof p.agree_to === 'number');
  const others = partitions.filter((p) => typeof p.agree_to !== 'number');
  const definition = connector.definition;
  const inTarget = definition.kind === 'sink' && (definition.writes?.guarantee ?? 'exactly_once') === 'exactly_once';
  return (
    <section className="sheet" aria-label="Positions">
      <Group justify="space-between" px={16} py={10}>
        <strong>Where it stands in its topics</strong>
        <Button variant="default" size="compact-sm" disabled={partitions.length === 0} onClick={() => setMoving(true)}>
          Move it
        </Button>
      </Group>
      {parted.length > 0 && (
        <div className="note" role="alert" style={{ margin: '0 16px 12px' }}>
          <strong>
            The topic log was rolled back, and {connector.system} is ahead of it in {count(parted.length)}{' '}
            {parted.length === 1 ? 'partition' : 'partitions'}.
          </strong>{' '}
          Let the sources of these topics begin anew. Then pause this connector and move it to where target and log
          agree: some records are delivered twice, none is skipped.
        </div>
      )}
      <Table.ScrollContainer minWidth={640}>
        <Table aria-label="Positions">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Topic</Table.Th>
              <Table.Th ta="right">Partition</Table.Th>
              <Table.Th ta="right">Next to deliver</Table.Th>
              <Table.Th ta="right">Kept from</Table.Th>
              <Table.Th ta="right">Up to</Table.Th>
              <Table.Th ta="right">To be delivered yet</Table.Th>
              <Table.Th>Missed</Table.Th>
              {parted.length > 0 && <Table.Th ta="right">Agree up to</Table.Th>}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {[...parted, ...others].map((p) => (
              <Table.Tr key={`${p.topic} ${p.partition}`}>
                <Table.Td>
                  <Link to={`/topics/${encodeURIComponent(p.topic)}`}>{p.topic}</Link>
                </Table.Td>
                <Table.Td className="number">{p.partition}</Table.Td>
                <Table.Td className="number">{count(p.next_offset)}</Table.Td>
                <Table.Td className="number">{count(p.first_offset)}</Table.Td>
                <Table.Td className="number">{count(p.end_offset)}</Table.Td>
                <Table.Td className="number">{count(p.waiting)}</Table.Td>
                <Table.Td style={p.missed > 0 ? { color: 'var(--warn)' } : undefined}>
                  {p.missed > 0 ? `${count(p.missed)} no longer kept` : 'none'}
                </Table.Td>
                {parted.length > 0 && (
                  <Table.Td className="number" style={{ color: 'var(--warn)' }}>
                    {typeof p.agree_to === 'number' ? count(p.agree_to) : ''}
                  </Table.Td>
                )}
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      {partitions.length === 0 && (
        <p className="quiet" style={{ padding: '0 16px' }}>
          It has not delivered anything yet.
        </p>
      )}
      {moving && (
        <Moving
          what={connector.definition.kind === 'topics' ? connector.name : `the sink ${connector.name}`}
          stands={partitions}
          blocked={
            !rests && <>It is at work. Pause or stop it first: what is shown must still be so when it is done.</>
          }
          seenAnyway
          target={inTarget ? (parted.length > 0 ? 'parted' : 'agrees') : undefined}
          send={(asked, tag) => moveSink(connector.id, asked, tag)}
          onMoved={() => void queries.invalidateQueries({ queryKey: positionsQuery(connector.id).queryKey })}
          onClose={() => setMoving(false)}
        />
      )}
    </section>
  );
}

function Source({ connector, source }: { connector: Connector; source: Schemas['SourcePosition'] }) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState(false);
  const from = connector.definition.kind === 'source' ? connector.definition.connection : undefined;
  const loads = useKindOf(from)?.source?.loads ?? true;
  const not = cannotLoad(connector.definition);
  const [existing, setExisting] = useState<ExistingRows>(not.empty ? (not.compare ? 'keep' : 'compare') : 'empty');
  const anew = useMutation({
    mutationFn: () => beginAnew(connector.id, loads ? existing : 'keep'),
    onSuccess: () => {
      setAsking(false);
      void queries.invalidateQueries({ queryKey: positionsQuery(connector.id).queryKey });
    },
  });
  const rests = ['paused', 'stopped', 'halted'].includes(connector.state);
  const facts: [string, string][] = [['In the topics up to', source.position ?? 'nothing yet']];
  const { held } = source;
  if (held)
    facts.push(
      ['Known to the system up to', held.confirmed ?? 'nothing'],
      ['End of the system’s log', held.end],
      ['Log kept for it', held.kept ? bytes(held.kept_bytes) : 'none'],
      ['Held by', `${held.held_by}, ${held.active ? 'being read' : 'not being read'}`],
    );
  return (
    <section className="sheet" aria-label="Positions">
      <Group justify="space-between" px={16} py={10}>
        <strong>Where it stands{held && ` in ${connector.system}’s log`}</strong>
        <Button
          variant="default"
          size="compact-sm"
          disabled={!rests}
          title={rests ? undefined : 'Pause or stop it first'}
          onClick={() => setAsking(true)}
        >
          Begin anew
        </Button>
      </Group>
      {held?.missing && source.position && (
        <div className="note" role="alert" style={{ margin: '0 16px 12px' }}>
          <strong>The changes from {held.missing.from} on are gone:</strong> {connector.system} no longer keeps its log
          for this source. Up to now that reaches to {held.missing.to}. Beginning anew loads every table again and
          closes the gap.
        </div>
      )}
      <Table>
        <Table.Tbody>
          {facts.map(([name, value]) => (
            <Table.Tr key={name}>
              <Table.Th w={260}>{name}</Table.Th>
              <Table.Td className="mono">{value}</Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      {asking && (
        <ConfirmByName
          name={connector.name}
          title={`Begin ${connector.name} anew`}
          action="Begin anew"
          problem={problemOf(anew.error)}
          busy={anew.isPending}
          onClose={() => setAsking(false)}
          onConfirm={() => anew.mutate()}
        >
          <p>
            {loads
              ? `Its place in ${connector.system}’s log is given up for a new one at its end, and all of its tables are loaded again. If the topic log was rolled back, begin empty: targets may hold rows that the topics do not know.`
              : `Its place in ${connector.system} is given up, and its rows are made from the first one on again.`}
          </p>
          {loads && <ExistingRowsChoice kind="source" value={existing} onChange={setExisting} not={not} />}
        </ConfirmByName>
      )}
    </section>
  );
}
