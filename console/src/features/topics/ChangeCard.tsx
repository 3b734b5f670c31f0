import { Button } from '@mantine/core';
import { useState, type KeyboardEvent } from 'react';

import { bytes, count } from '../../shared/format';
import { When } from '../../shared/When';
import { cellText, readChange, type Cell, type ColumnRow } from './change';
import type { TopicRecord } from './topicsQueries';

/** Fewest columns worth a block of their own; a wide row goes on in blocks beside the first. */
const BLOCK = 4;
const MOST_BLOCKS = 3;

/** A record: what happened, the row before beside the row after, origin and headers, and the raw form one key away. */
export function ChangeCard({ record }: { record: TopicRecord }) {
  const [raw, setRaw] = useState(false);
  const change = readChange(record.value);
  const onKey = (event: KeyboardEvent) => {
    if (event.key === 'r' && event.target === event.currentTarget) setRaw(!raw);
  };
  return (
    <article
      className="card"
      data-row
      tabIndex={0}
      onKeyDown={onKey}
      aria-label={`Record ${record.offset} of partition ${record.partition}`}
    >
      <div className="head">
        <span className="kind" data-kind={change?.kind ?? 'record'}>
          {change?.kind ?? (record.value === null ? 'gone' : 'record')}
        </span>
        <span className="mono">{keyText(record.key)}</span>
        <span className="quiet">
          partition {record.partition}, offset {count(record.offset)}
        </span>
        <span className="quiet">
          <When time={record.timestamp} />
        </span>
        <Button variant="subtle" size="compact-xs" ml="auto" onClick={() => setRaw(!raw)}>
          {raw ? 'As columns' : 'Raw'} <kbd style={{ marginLeft: 6 }}>r</kbd>
        </Button>
      </div>
      {raw || !change ? (
        <pre>{JSON.stringify(raw ? record : record.value, null, 2)}</pre>
      ) : (
        <Columns kind={change.kind} rows={change.rows} />
      )}
      <div className="facts">
        {change && change.origin.map((fact) => `${fact.name.replaceAll('_', ' ')} ${fact.value}`).join(' · ')}
        {record.headers.length > 0 && ` · headers ${record.headers.map((h) => `${h.name}: ${h.value}`).join(', ')}`}
        {record.schema != null && ` · schema ${record.schema}`} · {bytes(record.bytes)}
      </div>
    </article>
  );
}

function keyText(key: unknown): string {
  if (key === null || key === undefined) return 'no key';
  if (typeof key !== 'object') return cellText(key);
  return Object.entries(key)
    .map(([name, value]) => `${name} ${cellText(value)}`)
    .join(', ');
}

function Columns({ kind, rows }: { kind: string; rows: ColumnRow[] }) {
  if (rows.length === 0) {
    return <span className="quiet">{kind === 'truncate' ? 'All rows of the table went at once.' : 'No columns.'}</span>;
  }
  const withOld = rows.some((r) => r.old !== null);
  const withNew = rows.some((r) => r.new !== null);
  const size = Math.ceil(rows.length / Math.min(MOST_BLOCKS, Math.ceil(rows.length / BLOCK)));
  const blocks: ColumnRow[][] = [];
  for (let at = 0; at < rows.length; at += size) blocks.push(rows.slice(at, at + size));
  return (
    <div className="cells">
      {blocks.map((block, number) => (
        <table key={number}>
          <thead>
            <tr>
              <th>column</th>
              {withOld && <th>old</th>}
              {withNew && <th>new</th>}
            </tr>
          </thead>
          <tbody>
            {block.map((row) => (
              <tr key={row.column}>
                <th scope="row">{row.column}</th>
                {withOld && <Value cell={row.old} changed={row.changed} />}
                {withNew && <Value cell={row.new} changed={row.changed} />}
              </tr>
            ))}
          </tbody>
        </table>
      ))}
    </div>
  );
}

function Value({ cell, changed }: { cell: Cell | null; changed: boolean }) {
  if (cell === null) return <td className="absent">–</td>;
  const kind = [cell.absent ? 'absent' : '', changed ? 'changed' : ''].join(' ').trim();
  return (
    <td className={kind}>
      {cell.text.length > 400 ? `${cell.text.slice(0, 400)}… (${count(cell.text.length)} characters)` : cell.text}
    </td>
  );
}
