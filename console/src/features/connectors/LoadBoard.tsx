import { Button, Group, Table } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { problemOf } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { cannotLoad, ExistingRowsChoice, type ExistingRows } from '../../shared/ExistingRowsChoice';
import { count, timeLeft } from '../../shared/format';
import type { Connector } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { useKindOf } from '../../shared/connections/kinds';
import { loadAgain } from './connectorsQueries';
import { KINDS } from './progress';

type Row = Connector['tables'][number];

/** What was carried by table and kind: first the load, how far it is and how long it takes, then what follows it. */
export function LoadBoard({ connector }: { connector: Connector }) {
  const source = connector.kind === 'source';
  const between = connector.kind === 'topics';
  const [asked, setAsked] = useState<Row | null>(null);
  return (
    <div className="sheet">
      <h2>
        {source
          ? 'Tables and the topics they go to'
          : between
            ? 'Topics and the topics they go to'
            : 'Topics and the tables they go to'}
      </h2>
      <Table.ScrollContainer minWidth={760}>
        <Table aria-label="Changes by table and kind">
          <Table.Thead>
            <Table.Tr>
              <Table.Th>{source ? 'Table' : between ? 'From topic' : 'Topic'}</Table.Th>
              <Table.Th>{source ? 'Topic' : between ? 'To topic' : 'Table'}</Table.Th>
              {KINDS.map((kind) => (
                <Table.Th key={kind} ta="right">
                  {kind}
                </Table.Th>
              ))}
              <Table.Th>How far the load is</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {connector.tables.map((table) => (
              <Table.Tr key={`${table.from} ${table.types ?? ''}`}>
                <Table.Td className="mono">
                  {source ? table.from : <TopicLink name={table.from} />}
                  {table.types && <div className="quiet">{table.types}</div>}
                </Table.Td>
                <Table.Td className="mono">{source || between ? <TopicLink name={table.to} /> : table.to}</Table.Td>
                {table.counted_above ? (
                  <Table.Td colSpan={KINDS.length} ta="right" className="quiet">
                    counted with the topic’s other types
                  </Table.Td>
                ) : (
                  KINDS.map((kind) => (
                    <Table.Td key={kind} className="number" data-kind={kind}>
                      {count(table.counts[kind])}
                    </Table.Td>
                  ))
                )}
                <Table.Td miw={190}>
                  <Load table={table} connector={connector} onAgain={() => setAsked(table)} />
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      {asked && <Again connector={connector} table={asked} onClose={() => setAsked(null)} />}
    </div>
  );
}

function TopicLink({ name }: { name: string }) {
  return <Link to={`/topics/${encodeURIComponent(name)}`}>{name}</Link>;
}

function Load({ table, connector, onAgain }: { table: Row; connector: Connector; onAgain: () => void }) {
  const { load_total: expected, load_done: read } = table;
  const from = connector.definition.kind === 'source' ? connector.definition.connection : undefined;
  const loads = useKindOf(from)?.source?.loads ?? true;
  if (connector.kind !== 'source') return <span className="quiet">in the topic’s order</span>;
  if (connector.state === 'draft') return <span className="quiet">at the start</span>;
  if (!loads) return <span className="quiet">nothing to load</span>;
  if (expected == null) {
    const without = connector.definition.kind === 'source' && connector.definition.load?.rows === false;
    return (
      <Group gap="xs" wrap="nowrap" justify="space-between">
        {without && table.counts.load === 0 ? <span className="quiet">not asked for</span> : 'done'}
        <Button variant="subtle" size="compact-sm" disabled={connector.deleting} onClick={onAgain}>
          {table.counts.load === 0 ? 'Load' : 'Load again'}
        </Button>
      </Group>
    );
  }
  if (!read) return <span className="quiet">waits its turn</span>;
  const all = Math.max(expected, read);
  const left = connector.state === 'paused' ? null : timeLeft(read, all, connector.rate_per_s);
  return (
    <>
      {count(read)} of about {count(all)}
      {left && `, ${left} left`}
      {connector.state === 'paused' && ', goes on from here'}
      <div className="bar" role="presentation">
        <div style={{ width: `${(100 * read) / Math.max(1, all)}%` }} />
      </div>
    </>
  );
}

/** What loading a table again does, before it is done. */
function Again({ connector, table, onClose }: { connector: Connector; table: Row; onClose: () => void }) {
  const not = cannotLoad(connector.definition, table.from);
  const [existing, setExisting] = useState<ExistingRows>(not.compare ? 'keep' : 'compare');
  const loading = useMutation({
    mutationFn: () => loadAgain(connector.id, table.from, existing),
    onSuccess: onClose,
  });
  return (
    <Dialog opened onClose={onClose} title={`Load ${table.from} ${table.counts.load === 0 ? 'whole' : 'again'}`}>
      <p>
        Every row of <span className="mono">{table.from}</span> in {connector.system} is read
        {table.counts.load > 0 && ' once more'} and appended to <span className="mono">{table.to}</span>. The other
        tables, and changes of this one, go on meanwhile.
      </p>
      <p>Who reads the topic gets the rows as loads and applies them by key: what a target lost comes back.</p>
      <ExistingRowsChoice kind="source" value={existing} onChange={setExisting} not={not} />
      <ProblemNote problem={problemOf(loading.error)} />
      <Group mt="md" justify="flex-end">
        <Button variant="default" onClick={onClose}>
          Cancel
        </Button>
        <Button loading={loading.isPending} onClick={() => loading.mutate()} data-autofocus>
          Load the table
        </Button>
      </Group>
    </Dialog>
  );
}
