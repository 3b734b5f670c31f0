import { Table } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { problemOf } from '../../api/client';
import { count, rate } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { calledProducer, producersQuery } from '../../shared/producersQuery';
import { moveInList } from '../../shared/rowKeys';
import { When } from '../../shared/When';

/** Applications that append to the topic, by the names they give: how fast, and what of theirs was refused. */
export function Producers({ topic, held }: { topic: string; held: boolean }) {
  const query = producersQuery(topic);
  const found = useQuery({ ...query, refetchInterval: held ? false : query.refetchInterval });
  const producers = found.data ?? [];
  return (
    <div className="sheet">
      <div className="tools">
        <span className="quiet" style={{ flex: 1 }}>
          Applications that append to this topic, by the name they send as <code>Producer-Name</code>. Connectors are
          not among them.
        </span>
      </div>
      <ProblemNote problem={found.data ? null : problemOf(found.error)} />
      {found.data && producers.length === 0 ? (
        <div className="empty">
          <strong>No application has appended here</strong>
          <p>
            The lines to append by are under <Link to={`/topics/${encodeURIComponent(topic)}/publish`}>Publish</Link>.
          </p>
        </div>
      ) : (
        <Table.ScrollContainer minWidth={760}>
          <Table aria-label="Producers" onKeyDown={moveInList}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Name</Table.Th>
                <Table.Th>Last append</Table.Th>
                <Table.Th ta="right">Records/s</Table.Th>
                <Table.Th ta="right">Records</Table.Th>
                <Table.Th ta="right">Refused</Table.Th>
                <Table.Th>Why, and when last</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {producers.map((p) => (
                <Table.Tr key={p.name}>
                  <Table.Td maw={280} style={{ overflowWrap: 'anywhere' }}>
                    {p.name === '' ? <span className="quiet">{calledProducer('')}</span> : p.name}
                  </Table.Td>
                  <Table.Td>
                    {p.last_append ? <When time={p.last_append} /> : <span className="quiet">never</span>}
                  </Table.Td>
                  <Table.Td className="number">{rate(p.rate_per_s)}</Table.Td>
                  <Table.Td className="number">{count(p.records)}</Table.Td>
                  <Table.Td className="number">{count(p.refused)}</Table.Td>
                  <Table.Td style={{ overflowWrap: 'anywhere' }}>
                    {p.why && p.last_refused && (
                      <>
                        {p.why}{' '}
                        <span className="quiet">
                          <When time={p.last_refused} />
                        </span>
                      </>
                    )}
                  </Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
    </div>
  );
}
