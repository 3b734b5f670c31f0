import { ActionIcon, Autocomplete, Button, Checkbox, Loader, Select, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { Choice } from '../../shared/Choice';
import { count } from '../../shared/format';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { triedRowsQuery } from './builderQueries';
import {
  arraysIn,
  elementFields,
  filledFrom,
  identityOf,
  inElements,
  othersOf,
  partOf,
  seen,
  taken,
  TYPES,
  withColumn,
  withExpand,
  withField,
  withIdentity,
  withNewestBy,
  withOthers,
  withPart,
  type EventRows,
  type Identity,
  type Others,
} from './eventRows';
import { topicOf } from './types';

interface Props {
  /** What is read: a topic, or events of some types of it. */
  name: string;
  rows: EventRows | undefined;
  /** Whether the newest row of each key can be found by a column: a table of current rows can, a topic keeps all. */
  currentRows: boolean;
  onChange: (rows: EventRows) => void;
  onBack: () => void;
}

/** How a topic's events become rows, tried on its newest records as it is written. */
export function EventRowsPage({ name, rows: chosen, currentRows, onChange, onBack }: Props) {
  const [asked] = useDebouncedValue(chosen, 300);
  const tried = useQuery({
    ...triedRowsQuery(topicOf(name), asked ? { rows: asked } : {}),
    placeholderData: keepPreviousData,
  });
  const rows = chosen ?? tried.data?.rows;
  const problem = problemOf(tried.error);
  return (
    <div className="page">
      <Heading
        title={`Rows of ${name}`}
        says={`Each ${rows?.expand ? `element of ${rows.expand.join(' › ')}` : 'record'} becomes a row by these columns. They are tried on the newest 10,000 records as you change them; nothing runs before the connector is saved.`}
        action={<Button onClick={onBack}>Back to the connector</Button>}
      />
      <ProblemNote problem={problem} />
      {!rows && !problem && <Loader size="sm" />}
      {rows && (
        <div className="eventrows">
          <section className="sheet" aria-label="Columns">
            <Verdict tried={tried.data} stale={problem !== null} />
            <Ways rows={rows} tried={tried.data} currentRows={currentRows} onChange={onChange} />
            <Columns rows={rows} tried={tried.data} onChange={onChange} />
            <Further rows={rows} tried={tried.data} onChange={onChange} />
          </section>
          <NewestRows tried={tried.data} waiting={tried.isFetching} />
        </div>
      )}
    </div>
  );
}

interface Part {
  rows: EventRows;
  onChange: (rows: EventRows) => void;
}

type Tried = Schemas['TriedEventRows'] | undefined;

function Ways({ rows, tried, currentRows, onChange }: Part & { tried: Tried; currentRows: boolean }) {
  const identity = identityOf(rows);
  const fields = tried?.fields ?? [];
  const arrays = arraysIn(fields);
  const expand = rows.expand ? rows.expand.join('\0') : '';
  const free = rows.columns.filter((c) => !c.key).map((c) => c.name);
  return (
    <div className="eventways">
      <Choice<Identity>
        label="A row is"
        value={identity}
        onChange={(to) => onChange(withIdentity(rows, to))}
        data={[
          { value: 'place', label: rows.expand ? 'Each element' : 'Each record' },
          ...(rows.expand
            ? []
            : [
                { value: 'key' as const, label: 'The newest of each key' },
                { value: 'columns' as const, label: 'The newest by columns' },
              ]),
        ]}
        small
      />
      {(arrays.length > 0 || rows.expand) && (
        <Select
          size="xs"
          w={200}
          label="A row for each element of"
          placeholder="no array: one for each record"
          clearable
          data={[...new Set([...arrays.map((path) => path.join('\0')), ...(expand ? [expand] : [])])].map((value) => ({
            value,
            label: value.replaceAll('\0', ' › '),
          }))}
          value={expand || null}
          onChange={(path) => onChange(withExpand(rows, path === null ? null : path.split('\0'), fields))}
        />
      )}
      <Choice<Others>
        label="Fields without a column"
        value={othersOf(rows)}
        onChange={(to) => onChange(withOthers(rows, to))}
        data={[
          { value: 'leave_out', label: 'Left out' },
          { value: 'rest', label: 'Kept as JSON' },
          { value: 'add_column', label: 'Added as columns' },
          { value: 'quarantine', label: 'Quarantine' },
        ]}
        small
      />
      {identity !== 'place' && currentRows && (
        <Select
          size="xs"
          w={200}
          label="Newest by"
          placeholder="the topic’s order"
          clearable
          data={free}
          value={rows.newest_by ?? null}
          onChange={(by) => onChange(withNewestBy(rows, by))}
        />
      )}
    </div>
  );
}

function Columns({ rows, tried, onChange }: Part & { tried: Tried }) {
  const fields = new Map(tried?.fields.map((f) => [JSON.stringify(f.path), f]));
  const elements = new Map(elementFields(rows, tried?.fields ?? []).map((f) => [JSON.stringify(f.path), f]));
  const chosen = identityOf(rows) === 'columns';
  return (
    <div className="sample eventcolumns">
      <table>
        <thead>
          <tr>
            <th scope="col">Column</th>
            <th scope="col">Type</th>
            <th scope="col">Filled from</th>
            <th scope="col">Seen in the newest {count(tried?.records ?? 0)}</th>
            <th scope="col">Key</th>
            <th scope="col">Needed</th>
            <th scope="col" />
          </tr>
        </thead>
        <tbody>
          {rows.columns.map((column, place) => {
            const set = (some: Partial<Schemas['EventColumn']>) => onChange(withColumn(rows, place, some));
            const seenIn = partOf(column) === 'element' ? elements : fields;
            const field = ['field', 'element'].includes(partOf(column))
              ? seenIn.get(JSON.stringify(column.path ?? []))
              : undefined;
            return (
              <tr key={place}>
                <td>
                  <TextInput
                    size="xs"
                    aria-label={`Name of column ${place + 1}`}
                    classNames={{ input: 'mono' }}
                    value={column.name}
                    onChange={(e) => set({ name: e.currentTarget.value })}
                  />
                </td>
                <td>
                  <Autocomplete
                    size="xs"
                    aria-label={`Type of ${column.name}`}
                    classNames={{ input: 'mono' }}
                    data={TYPES}
                    filter={({ options }) => options}
                    value={column.type}
                    onChange={(type) => set({ type })}
                  />
                </td>
                <td className="mono from">{filledFrom(column)}</td>
                <td className="quiet">
                  {seen(field, partOf(column) === 'element' ? (field?.present ?? 0) : (tried?.records ?? 0))}
                </td>
                <td>
                  <Checkbox
                    size="xs"
                    aria-label={`${column.name} is part of the key`}
                    checked={column.key ?? false}
                    disabled={!chosen || ['rest', 'value', 'element'].includes(partOf(column))}
                    onChange={(e) => set({ key: e.currentTarget.checked })}
                  />
                </td>
                <td>
                  <Checkbox
                    size="xs"
                    aria-label={`${column.name} is needed`}
                    checked={(column.required ?? false) || (column.key ?? false)}
                    disabled={column.key ?? false}
                    onChange={(e) => set({ required: e.currentTarget.checked })}
                  />
                </td>
                <td>
                  <ActionIcon
                    variant="subtle"
                    aria-label={`Take ${column.name} out`}
                    disabled={(column.key ?? false) && !chosen}
                    onClick={() => onChange(withColumn(rows, place, null))}
                  >
                    ×
                  </ActionIcon>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

/** What could fill another column. */
function Further({ rows, tried, onChange }: Part & { tried: Tried }) {
  const [picked, setPicked] = useState<string | null>(null);
  const fields = (tried?.fields ?? []).filter((f) => !inElements(f.path) && !taken(rows, 'field', f.path));
  const elements = elementFields(rows, tried?.fields ?? []).filter((f) => !taken(rows, 'element', f.path));
  const headers = (tried?.headers ?? []).filter((h) => !taken(rows, 'header', [h.name]));
  const facts = (['key', 'time', 'partition', 'offset', 'value'] as const).filter(
    (part) => !rows.columns.some((c) => partOf(c) === part),
  );
  const group = (name: string, items: { value: string; label: string }[]) =>
    items.length > 0 ? [{ group: name, items }] : [];
  return (
    <Select
      mt="xs"
      size="xs"
      w={320}
      aria-label="Add a column"
      placeholder="Add a column from a field, a header, the record"
      searchable
      value={picked}
      onChange={(value) => {
        setPicked(null);
        if (value === null) return;
        const [part, path, type] = JSON.parse(value) as [
          'field' | 'header' | 'element' | (typeof facts)[number],
          string[],
          string,
        ];
        onChange(
          part === 'field' || part === 'header' || part === 'element'
            ? withField(rows, part, path, type)
            : withPart(rows, part),
        );
      }}
      data={[
        ...group(
          'Fields',
          fields.map((f) => ({
            value: JSON.stringify(['field', f.path, f.type ?? 'jsonb']),
            label: f.type ? f.path.join(' › ') : `${f.path.join(' › ')} (whole, as jsonb)`,
          })),
        ),
        ...group(
          'Each element',
          elements.map((f) => ({
            value: JSON.stringify(['element', f.path, f.type ?? 'jsonb']),
            label: f.path.length > 0 ? f.path.join(' › ') : 'the whole element',
          })),
        ),
        ...group(
          'Headers',
          headers.map((h) => ({ value: JSON.stringify(['header', [h.name], 'text']), label: h.name })),
        ),
        ...group(
          'The record',
          facts.map((part) => ({
            value: JSON.stringify([part, [], '']),
            label: filledFrom({ name: '', type: '', part }),
          })),
        ),
      ]}
    />
  );
}

/** How many of the newest records become rows, and why others do not. */
function Verdict({ tried, stale }: { tried: Tried; stale: boolean }) {
  if (!tried) return null;
  const refused = tried.records - tried.fit;
  return (
    <div role="status" data-stale={stale || undefined}>
      <p className="eventverdict" data-refused={refused > 0 || undefined}>
        {tried.records === 0
          ? 'The topic holds no records yet.'
          : refused === 0
            ? `All of the newest ${count(tried.records)} records${tried.of_other_types > 0 ? ' of this type' : ''} become rows.`
            : `▲ ${count(refused)} of the newest ${count(tried.records)} records would go to quarantine.`}
      </p>
      {tried.refused.map((cause) => (
        <p key={cause.finding} className="breaks">
          {count(cause.records)}: {cause.finding}{' '}
          <span className="quiet">
            First at partition {cause.partition}, offset {count(cause.offset)}.
          </span>
        </p>
      ))}
    </div>
  );
}

/** The newest records as rows. */
function NewestRows({ tried, waiting }: { tried: Tried; waiting: boolean }) {
  if (!tried || tried.sample.length === 0) return null;
  return (
    <section className="sheet" aria-label="The newest records as rows" aria-busy={waiting}>
      <div className="sample" tabIndex={0} role="region" aria-label="The newest rows">
        <table>
          <thead>
            <tr>
              {tried.rows.columns.map((column) => (
                <th scope="col" key={column.name}>
                  <span className="mono">{column.name}</span>
                  <div className="quiet mono">{column.type}</div>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {tried.sample.map((row) => (
              <tr key={`${row.partition}-${row.offset}`} data-out={row.deletes || undefined}>
                {row.cells.map((cell, n) => (
                  <td key={n} className="mono">
                    <div className="cell" title={cell ?? 'null'}>
                      {cell ?? <span className="quiet">null</span>}
                    </div>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
