import { Button, Group, Table } from '@mantine/core';
import { useQueryClient } from '@tanstack/react-query';
import { Fragment, useState } from 'react';
import { Link } from 'react-router';

import type { Plan } from '../../api/client';
import { ConfirmPlan } from '../ConfirmPlan';
import { count, span } from '../format';
import { moveInList } from '../rowKeys';
import { When } from '../When';
import { readersQuery, removeReader, type Reader } from './readersQueries';
import { ReaderTopics } from './ReaderTopics';
import { Repositioning } from './Repositioning';

type Open = { what: 'topics' | 'move' | 'delete'; reader: Reader } | null;

/** Readers with their lag; one opened shows where it stands in each partition. */
export function ReadersTable({ readers, topic }: { readers: Reader[]; topic?: string }) {
  const [opened, setOpened] = useState<string | null>(null);
  const [open, setOpen] = useState<Open>(null);
  return (
    <>
      <Table.ScrollContainer minWidth={760}>
        <Table aria-label="Readers" onKeyDown={moveInList}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Name</Table.Th>
              {!topic && <Table.Th>Reads</Table.Th>}
              <Table.Th>Members</Table.Th>
              <Table.Th ta="right">Not read yet</Table.Th>
              <Table.Th ta="right">Behind by</Table.Th>
              <Table.Th>Last commit</Table.Th>
              <Table.Th />
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {readers.map((reader) => (
              <Fragment key={reader.name}>
                <Table.Tr>
                  <Table.Td maw={320}>
                    <button
                      type="button"
                      className="plain"
                      data-row
                      aria-expanded={opened === reader.name}
                      onClick={() => setOpened(opened === reader.name ? null : reader.name)}
                      style={{ overflowWrap: 'anywhere' }}
                    >
                      {reader.name}
                    </button>
                  </Table.Td>
                  {!topic && (
                    <Table.Td>
                      {reader.topics.map((t, n) => (
                        <span key={t}>
                          {n > 0 && ', '}
                          <Link to={`/topics/${encodeURIComponent(t)}/readers`}>{t}</Link>
                        </span>
                      ))}
                    </Table.Td>
                  )}
                  <Table.Td>
                    {reader.members.map((m) => m.label).join(', ') || <span className="quiet">no one reads now</span>}
                  </Table.Td>
                  <Table.Td className="number">{count(reader.lag_records)}</Table.Td>
                  <Table.Td className="number">{reader.lag_ms == null ? 'nothing' : span(reader.lag_ms)}</Table.Td>
                  <Table.Td>
                    {reader.committed_at ? <When time={reader.committed_at} /> : <span className="quiet">never</span>}
                  </Table.Td>
                  <Table.Td>
                    <Group gap={4} wrap="nowrap" justify="flex-end">
                      <Button variant="subtle" size="compact-sm" onClick={() => setOpen({ what: 'topics', reader })}>
                        Topics
                      </Button>
                      <Button variant="subtle" size="compact-sm" onClick={() => setOpen({ what: 'move', reader })}>
                        Move
                      </Button>
                      <Button
                        variant="subtle"
                        color="apricot"
                        size="compact-sm"
                        onClick={() => setOpen({ what: 'delete', reader })}
                      >
                        Delete
                      </Button>
                    </Group>
                  </Table.Td>
                </Table.Tr>
                {opened === reader.name && (
                  <Table.Tr>
                    <Table.Td colSpan={topic ? 6 : 7}>
                      <Positions reader={reader} topic={topic} />
                    </Table.Td>
                  </Table.Tr>
                )}
              </Fragment>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      {open?.what === 'topics' && <ReaderTopics reader={open.reader} onClose={() => setOpen(null)} />}
      {open?.what === 'move' && <Repositioning reader={open.reader} topic={topic} onClose={() => setOpen(null)} />}
      {open?.what === 'delete' && <Removal reader={open.reader} onClose={() => setOpen(null)} />}
    </>
  );
}

function Positions({ reader, topic }: { reader: Reader; topic?: string }) {
  const label = (id: string | null | undefined) => reader.members.find((m) => m.id === id)?.label ?? 'no one';
  return (
    <Table aria-label={`Positions of ${reader.name}`} withRowBorders={false} verticalSpacing={3}>
      <Table.Thead>
        <Table.Tr>
          <Table.Th>Partition</Table.Th>
          <Table.Th ta="right">Reads next</Table.Th>
          <Table.Th ta="right">Not read yet</Table.Th>
          <Table.Th ta="right">Behind by</Table.Th>
          <Table.Th>Last commit</Table.Th>
          <Table.Th>Read by</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {reader.positions
          .filter((p) => !topic || p.topic === topic)
          .map((p) => (
            <Table.Tr key={`${p.topic} ${p.partition}`}>
              <Table.Td>{topic ? p.partition : `${p.topic} ${p.partition}`}</Table.Td>
              <Table.Td className="number">{count(p.next_offset)}</Table.Td>
              <Table.Td className="number">{count(p.lag_records)}</Table.Td>
              <Table.Td className="number">{p.lag_ms == null ? 'nothing' : span(p.lag_ms)}</Table.Td>
              <Table.Td>{p.committed_at ? <When time={p.committed_at} /> : 'never'}</Table.Td>
              <Table.Td>{label(p.member)}</Table.Td>
            </Table.Tr>
          ))}
      </Table.Tbody>
    </Table>
  );
}

function Removal({ reader, onClose }: { reader: Reader; onClose: () => void }) {
  const queries = useQueryClient();
  return (
    <ConfirmPlan
      name={reader.name}
      title={`Delete ${reader.name}`}
      action="Delete the reader"
      look={() => removeReader(reader.name, null) as Promise<Plan>}
      carryOut={(tag) => removeReader(reader.name, tag)}
      onDone={() => {
        void queries.invalidateQueries({ queryKey: readersQuery.queryKey });
        onClose();
      }}
      onClose={onClose}
    >
      <p>The records stay.</p>
    </ConfirmPlan>
  );
}
