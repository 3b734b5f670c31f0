import { SchemaLink } from './SchemaLink';
import { Button, CopyButton } from '@mantine/core';
import { useState, type KeyboardEvent } from 'react';

import { isExact } from '../../shared/exact';
import { bytes, count } from '../../shared/format';
import { When } from '../../shared/When';
import { asText, fromBase64, hexLines } from './bytes';
import { cellText, readChange, type Cell, type ColumnRow } from './change';
import type { TopicRecord } from './topicsQueries';
import type { Form } from './view';

/** Fewest columns worth a block of their own; a wide row goes on in blocks beside the first. */
const BLOCK = 4;
const MOST_BLOCKS = 3;

interface Props {
  record: TopicRecord;
  form: Form;
  /** Makes a new record of this one. */
  onReuse: (record: TopicRecord) => void;
}

/** A record: what happened, the row before beside the row after, origin and headers, and the whole value one key away. */
export function ChangeCard({ record, form, onReuse }: Props) {
  const [own, setOwn] = useState<Form | null>(null);
  const shown = own ?? form;
  // from columns to the JSON and back, whatever form the others have
  const other = shown === 'json' ? (form === 'json' ? 'table' : form) : 'json';
  const change = readChange(record.value);
  const toggle = () => setOwn(other);
  const onKey = (event: KeyboardEvent) => {
    if (event.key === 'r' && event.target === event.currentTarget) toggle();
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
        <span className="mono key">{keyText(record.key)}</span>
        <span className="quiet">
          partition {record.partition}, offset {count(record.offset)}
        </span>
        <span className="quiet">
          <When time={record.timestamp} />
        </span>
        <span style={{ marginLeft: 'auto', whiteSpace: 'nowrap' }}>
          <Button variant="subtle" size="compact-xs" onClick={() => onReuse(record)}>
            Append one like it
          </Button>
          <CopyButton value={copyText(record)}>
            {({ copied, copy }) => (
              <Button variant="subtle" size="compact-xs" onClick={copy}>
                {copied ? 'Copied' : 'Copy'}
              </Button>
            )}
          </CopyButton>
          <Button variant="subtle" size="compact-xs" onClick={toggle}>
            {other === 'json' ? 'JSON' : 'Back'} <kbd style={{ marginLeft: 6 }}>r</kbd>
          </Button>
        </span>
      </div>
      <Body record={record} form={shown} />
      <div className="facts">
        {change && change.origin.map((fact) => `${fact.name.replaceAll('_', ' ')} ${fact.value}`).join(' · ')}
        {record.headers.length > 0 &&
          `${change ? ' · ' : ''}headers ${record.headers.map((h) => `${h.name}: ${h.value}`).join(', ')} · `}
        {change && record.headers.length === 0 && ' · '}
        {record.schema != null && (
          <>
            <SchemaLink id={record.schema} /> ·{' '}
          </>
        )}
        {bytes(record.bytes)}
      </div>
    </article>
  );
}

function copyText(record: TopicRecord): string {
  const { key, value, headers, partition, offset, timestamp } = record;
  return JSON.stringify(
    { partition, offset, timestamp, key, value, headers: headers.map(({ name, value }) => ({ name, value })) },
    null,
    2,
  );
}

function Body({ record, form }: { record: TopicRecord; form: Form }) {
  const change = readChange(record.value);
  if (form === 'json') return <pre>{JSON.stringify(record.value, null, 2)}</pre>;
  if (form === 'raw' || form === 'hex') {
    return (
      <div className="parts">
        <Part label="key" base64={record.key_base64} hex={form === 'hex'} />
        <Part label="value" base64={record.value_base64} hex={form === 'hex'} />
        {record.headers.map((h, n) => (
          <Part key={n} label={h.name} base64={h.value_base64} hex={form === 'hex'} />
        ))}
      </div>
    );
  }
  if (change) return <Columns kind={change.kind} rows={change.rows} />;
  const rows = fieldRows(record.value);
  return rows === null ? <pre>{JSON.stringify(record.value, null, 2)}</pre> : <Columns kind="record" rows={rows} />;
}

/** The members of a JSON object as rows; null for anything else. */
function fieldRows(value: unknown): ColumnRow[] | null {
  if (typeof value !== 'object' || value === null || Array.isArray(value) || isExact(value)) return null;
  return Object.entries(value).map(([column, member]) => ({
    column,
    old: null,
    new: member === null ? { text: 'null', absent: 'null' } : { text: cellText(member), absent: null },
    changed: false,
  }));
}

function Part({ label, base64, hex }: { label: string; base64: string | null | undefined; hex: boolean }) {
  if (base64 == null) return <PartLine label={label} text={null} />;
  const found = fromBase64(base64);
  const text = hex ? null : asText(found);
  return <PartLine label={`${label}, ${bytes(found.length)}`} text={text ?? (found.length ? hexLines(found) : '')} />;
}

function PartLine({ label, text }: { label: string; text: string | null }) {
  return (
    <>
      <span className="quiet">{label}</span>
      {text === null ? <span className="quiet">none</span> : <pre>{text || ' '}</pre>}
    </>
  );
}

function keyText(key: unknown): string {
  if (key === null || key === undefined) return 'no key';
  if (typeof key !== 'object' || isExact(key)) return cellText(key);
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
  const isRecord = kind === 'record';
  return (
    <div className="cells">
      {blocks.map((block, number) => (
        <table key={number}>
          <thead>
            <tr>
              <th>{isRecord ? 'field' : 'column'}</th>
              {withOld && <th>old</th>}
              {withNew && <th>{isRecord ? 'value' : 'new'}</th>}
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
