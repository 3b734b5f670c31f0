import { Button, Group, Table } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { ConfirmPlan } from '../../shared/ConfirmPlan';
import { ConnectionForm } from '../../shared/connections/ConnectionForm';
import {
  connectionsQuery,
  kindsQuery,
  removeConnection,
  testSaved,
  type Connection,
} from '../../shared/connections/connectionsQueries';
import { Dialog } from '../../shared/Dialog';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Heading } from '../../shared/Page';
import { Checks } from '../../shared/Checks';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';

/** What the page shows over its list. */
type Open = { what: 'nothing' } | { what: 'change' | 'delete'; connection: Connection };

export function ConnectionsPage() {
  const connections = useQuery({ ...connectionsQuery, ...useKeptCurrent('connection') });
  const [search, setSearch] = useSearchParams();
  const [open, setOpen] = useState<Open>({ what: 'nothing' });
  const [filter, setFilter] = useFilter();
  const making = search.get('new') === '1';
  const make = (on: boolean) => setSearch(on ? { new: '1' } : {}, { replace: true });
  const close = () => setOpen({ what: 'nothing' });
  const shown = (connections.data ?? []).filter((c) => fits(filter, c.name, c.place));
  return (
    <div className="page">
      <Heading
        title="Connections"
        says="Saved ways to reach systems. Many connectors may share one."
        action={<Button onClick={() => make(true)}>Make a connection</Button>}
      />
      <ProblemNote problem={connections.data ? null : problemOf(connections.error)} />
      {connections.data?.length === 0 && (
        <Blank
          title="No connection yet"
          action={
            <Button variant="default" onClick={() => make(true)}>
              Make one
            </Button>
          }
        >
          A connection holds an address and a login. It is tried before it is saved, and its password is never shown
          again.
        </Blank>
      )}
      {connections.data && connections.data.length > 0 && (
        <div className="sheet">
          <div className="tools">
            <FilterInput label="Name or place" value={filter} onChange={setFilter} />
          </div>
          <Table.ScrollContainer minWidth={760}>
            <Table aria-label="Connections" onKeyDown={moveInList}>
              <Table.Thead>
                <Table.Tr>
                  <Table.Th>Name</Table.Th>
                  <Table.Th>Reaches</Table.Th>
                  <Table.Th>Used by</Table.Th>
                  <Table.Th>Test</Table.Th>
                  <Table.Th />
                </Table.Tr>
              </Table.Thead>
              <Table.Tbody>
                {shown.map((connection) => (
                  <Row key={connection.id} connection={connection} onOpen={(what) => setOpen({ what, connection })} />
                ))}
              </Table.Tbody>
            </Table>
          </Table.ScrollContainer>
        </div>
      )}
      <Dialog opened={making} onClose={() => make(false)} title="Make a connection">
        <ConnectionForm onSaved={() => make(false)} onCancel={() => make(false)} />
      </Dialog>
      {open.what === 'change' && (
        <Dialog opened onClose={close} title={`Change ${open.connection.name}`}>
          {open.connection.used_by.length > 0 && (
            <p className="quiet">
              {open.connection.used_by.join(', ')} will start anew with it, each from where it stands.
            </p>
          )}
          <ConnectionForm before={open.connection} onSaved={close} onCancel={close} />
        </Dialog>
      )}
      {open.what === 'delete' && <Removal connection={open.connection} onClose={close} />}
    </div>
  );
}

function Row({ connection, onOpen }: { connection: Connection; onOpen: (what: 'change' | 'delete') => void }) {
  const kind = useQuery(kindsQuery).data?.find((k) => k.kind === connection.kind);
  const test = useMutation({ mutationFn: () => testSaved(connection.id) });
  const problem = problemOf(test.error);
  return (
    <Table.Tr>
      <Table.Td maw={320}>
        <button type="button" className="name plain" data-row onClick={() => onOpen('change')}>
          {connection.name}
        </button>
        <div className="quiet">{kind?.name ?? connection.kind}</div>
      </Table.Td>
      <Table.Td>
        <span className="mono">{connection.place}</span>
      </Table.Td>
      <Table.Td>{connection.used_by.join(', ') || <span className="quiet">nothing</span>}</Table.Td>
      <Table.Td miw={220}>
        <Button variant="default" size="compact-sm" loading={test.isPending} onClick={() => test.mutate()}>
          Test
        </Button>
        {test.data && (
          <div style={{ marginTop: 6 }}>
            {test.data.ready ? `Answered in ${test.data.took_ms} ms` : null}
            <Checks checks={test.data.checks.filter((c) => !test.data.ready || c.outcome !== 'passed')} />
          </div>
        )}
        <ProblemNote problem={problem} />
      </Table.Td>
      <Table.Td>
        <Group gap={4} wrap="nowrap" justify="flex-end">
          <Button variant="subtle" size="compact-sm" onClick={() => onOpen('change')}>
            Change
          </Button>
          <Button variant="subtle" color="apricot" size="compact-sm" onClick={() => onOpen('delete')}>
            Delete
          </Button>
        </Group>
      </Table.Td>
    </Table.Tr>
  );
}

function Removal({ connection, onClose }: { connection: Connection; onClose: () => void }) {
  const queries = useQueryClient();
  return (
    <ConfirmPlan
      name={connection.name}
      title={`Delete ${connection.name}`}
      action="Delete the connection"
      look={() => removeConnection(connection.id, null)}
      carryOut={(tag) => removeConnection(connection.id, tag)}
      onDone={() => {
        void queries.invalidateQueries({ queryKey: connectionsQuery.queryKey });
        onClose();
      }}
      onClose={onClose}
    />
  );
}
