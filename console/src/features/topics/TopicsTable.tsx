import { Table } from '@mantine/core';
import { useWindowVirtualizer } from '@tanstack/react-virtual';
import { useRef } from 'react';
import { Link, useNavigate } from 'react-router';

import type { Schemas } from '../../api/client';
import { bytes, count } from '../../shared/format';
import { calledProducer } from '../../shared/producersQuery';
import { moveInList } from '../../shared/rowKeys';
import { useAbove } from '../../shared/useAbove';
import { When } from '../../shared/When';
import { keeps } from './keeps';

const ROW = 38;

/** Topics by name; only the rows near the window are drawn. */
export function TopicsTable({ topics }: { topics: Schemas['TopicSummary'][] }) {
  const navigate = useNavigate();
  const list = useRef<HTMLDivElement>(null);
  const above = useAbove(list);
  const rows = useWindowVirtualizer({
    count: topics.length,
    estimateSize: () => ROW,
    overscan: 4,
    scrollMargin: above,
    getItemKey: (n) => topics[n]?.name ?? n,
  });
  const items = rows.getVirtualItems();
  const before = (items[0]?.start ?? above) - above;
  const after = rows.getTotalSize() - ((items[items.length - 1]?.end ?? above) - above);
  return (
    <div ref={list}>
      <Table.ScrollContainer minWidth={760}>
        <Table aria-label="Topics" aria-rowcount={topics.length} onKeyDown={moveInList}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Name</Table.Th>
              <Table.Th ta="right">Records</Table.Th>
              <Table.Th ta="right">Stored</Table.Th>
              <Table.Th ta="right">Partitions</Table.Th>
              <Table.Th>Keeps</Table.Th>
              <Table.Th>Written by</Table.Th>
              <Table.Th>Read by</Table.Th>
              <Table.Th>Made</Table.Th>
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {before > 0 && (
              <tr aria-hidden>
                <td style={{ height: before }} />
              </tr>
            )}
            {items.map((item) => {
              const topic = topics[item.index];
              if (!topic) return null;
              const to = `/topics/${encodeURIComponent(topic.name)}`;
              return (
                <Table.Tr
                  key={item.key}
                  ref={rows.measureElement}
                  data-index={item.index}
                  aria-rowindex={item.index + 1}
                  className="openable"
                  onClick={() => void navigate(to)}
                >
                  <Table.Td maw={420}>
                    <Link className="name" data-row to={to} onClick={(event) => event.stopPropagation()}>
                      {topic.name}
                    </Link>
                  </Table.Td>
                  <Table.Td className="number">{count(topic.records)}</Table.Td>
                  <Table.Td className="number">{bytes(topic.bytes)}</Table.Td>
                  <Table.Td className="number">{topic.partitions}</Table.Td>
                  <Table.Td>{keeps(topic.settings)}</Table.Td>
                  <Table.Td>
                    {[...topic.written_by, ...topic.producers.map(calledProducer)].join(', ') || (
                      <span className="quiet">nothing</span>
                    )}
                  </Table.Td>
                  <Table.Td>{topic.read_by.join(', ') || <span className="quiet">nothing</span>}</Table.Td>
                  <Table.Td>
                    <When time={topic.created_at} />
                  </Table.Td>
                </Table.Tr>
              );
            })}
            {after > 0 && (
              <tr aria-hidden>
                <td style={{ height: after }} />
              </tr>
            )}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
    </div>
  );
}
