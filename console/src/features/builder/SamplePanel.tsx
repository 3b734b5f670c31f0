import { Checkbox, Loader, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';

import { problemOf, type Schemas } from '../../api/client';
import { useKindOf } from '../../shared/connections/kinds';
import { ProblemNote } from '../../shared/ProblemNote';
import { keyOf } from '../../shared/tables';
import { shownTable, type CapturedChoice, type SinkDraft, type SourceDraft } from './builder';
import { deliveryQuery, newestQuery, sampleQuery } from './builderQueries';
import { deliveredTable } from './delivered';
import { captured } from './exchange';
import { Stage, type Change } from './Stage';
import { topicOf } from './types';

/** Rows shown of a sample; the answer may hold more. */
const SHOWN = 2;

/** Real rows of one table, what of them is captured, and the record that the first of them becomes. */
export function SamplePanel({ draft, change, looked }: { draft: SourceDraft; change: Change; looked: string | null }) {
  const table = looked === null ? undefined : draft.tables[looked];
  if (!table) {
    return (
      <Stage title="What goes through">
        <p className="quiet">Real rows of a table you tick appear here, and the records they become.</p>
      </Stage>
    );
  }
  return <OfTable key={keyOf(table)} draft={draft} table={table} change={change} />;
}

function toggled(list: string[], name: string, there: boolean): string[] {
  return there ? [...list.filter((c) => c !== name), name] : list.filter((c) => c !== name);
}

function OfTable({ draft, table, change }: { draft: SourceDraft; table: CapturedChoice; change: Change }) {
  const name = keyOf(table);
  const [asked] = useDebouncedValue(captured(table), 300);
  const sample = useQuery(sampleQuery(draft.system?.id ?? null, { table: asked, values: draft.values }));
  // what was shown last stays while a condition is being typed
  const whole = useQuery({
    ...sampleQuery(draft.system?.id ?? null, { table: { ...asked, load_where: undefined }, values: draft.values }),
    refetchInterval: false,
  });
  const loads = useKindOf(draft.system?.id)?.source?.loads ?? true;
  const data = sample.data ?? whole.data;
  const set = (some: Partial<Omit<CapturedChoice, 'schema' | 'table'>>) =>
    change({ type: 'ofTable', table: name, set: some });
  const problem = problemOf(sample.error);
  return (
    <Stage title={`What goes through of ${shownTable(table, draft.system)}`}>
      <ProblemNote problem={problem} />
      {!data && sample.isFetching && <Loader size="sm" />}
      {data && (
        <>
          <Columns sample={data} table={table} set={set} />
          {(loads || table.loadWhere) && (
            <TextInput
              mt="xs"
              size="xs"
              label="Load only rows where"
              description="An SQL condition over its columns; changes of other rows come all the same"
              placeholder="picked_at > now() - interval '30 days'"
              classNames={{ input: 'mono' }}
              value={table.loadWhere}
              onChange={(e) => set({ loadWhere: e.currentTarget.value })}
            />
          )}
          <BecomesRecord sample={data} />
        </>
      )}
    </Stage>
  );
}

interface ColumnsProps {
  sample: Schemas['RowSample'];
  table: CapturedChoice;
  set: (some: Partial<Omit<CapturedChoice, 'schema' | 'table'>>) => void;
}

function Columns({ sample, table, set }: ColumnsProps) {
  const rows = sample.rows.slice(0, SHOWN);
  const key = table.key.length > 0 ? table.key : sample.columns.filter((c) => c.key).map((c) => c.name);
  return (
    <div className="sample">
      <table>
        <thead>
          <tr>
            <th scope="col">Captured</th>
            <th scope="col">Key</th>
            <th scope="col">Column</th>
            {rows.map((_, n) => (
              <th scope="col" key={n}>
                Row {n + 1}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sample.columns.map((column, place) => {
            const isKey = key.includes(column.name);
            const out = table.leaveOut.includes(column.name);
            return (
              <tr key={column.name} data-out={out || undefined}>
                <td>
                  <Checkbox
                    size="xs"
                    aria-label={`Capture ${column.name}`}
                    checked={!out}
                    disabled={isKey}
                    onChange={(e) => set({ leaveOut: toggled(table.leaveOut, column.name, !e.currentTarget.checked) })}
                  />
                </td>
                <td>
                  <Checkbox
                    size="xs"
                    aria-label={`${column.name} is part of the key`}
                    checked={isKey}
                    disabled={out}
                    onChange={(e) => set({ key: toggled(key, column.name, e.currentTarget.checked) })}
                  />
                </td>
                <th scope="row">
                  <span className="mono">{column.name}</span>
                  <div className="quiet mono">{column.source_type}</div>
                </th>
                {rows.map((row, n) => (
                  <td key={n} className="mono cell" title={row.cells[place] ?? 'null'}>
                    {row.cells[place] ?? <span className="quiet">null</span>}
                  </td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </table>
      {rows.length === 0 && <p className="quiet">There is no row right now.</p>}
    </div>
  );
}

function BecomesRecord({ sample }: { sample: Schemas['RowSample'] }) {
  const row = sample.rows[0];
  if (!row) return null;
  return (
    <>
      <div className="choice-label" style={{ marginTop: 10 }}>
        Row 1 becomes this record, of {row.bytes} bytes
      </div>
      <pre tabIndex={0} className="rawform mono">
        {JSON.stringify(row.key)}
        {'\n'}
        {JSON.stringify(row.value, null, 1)}
      </pre>
    </>
  );
}

/** The rows that the newest records become, in the way the sink writes. */
function DeliveredRows({ sample }: { sample: Schemas['DeliverySample'] }) {
  const table = deliveredTable(sample.rows);
  return (
    <>
      <div className="choice-label">
        {sample.records === 1 ? 'The newest record becomes' : `The newest ${sample.records} records become`}
      </div>
      <div className="sample" tabIndex={0} role="region" aria-label="Rows in the target" style={{ marginBottom: 12 }}>
        <table>
          <thead>
            <tr>
              <th scope="col">row</th>
              {table.columns.map((column) => (
                <th scope="col" key={column} className="mono">
                  {column}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {table.rows.map((row, n) => (
              <tr key={n} data-out={row.how === 'removed' || undefined}>
                <th scope="row">{row.how}</th>
                {row.cells.map((cell, column) => (
                  <td key={column} className="mono">
                    <div className="cell" title={cell}>
                      {cell}
                    </div>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

/** The newest records of the chosen topics, which would be delivered, and what becomes of them. */
export function NewestRecords({ draft }: { draft: SinkDraft }) {
  const names = Object.keys(draft.topics);
  const name = names[names.length - 1] ?? null;
  const topic = name === null ? null : topicOf(name);
  const newest = useQuery(newestQuery(topic));
  const rows = name === null ? undefined : draft.rows[name];
  const delivery = useQuery({ ...deliveryQuery(topic, draft.writes, rows), placeholderData: keepPreviousData });
  if (topic === null) {
    return (
      <Stage title="What goes through">
        <p className="quiet">The newest records of a topic you tick appear here.</p>
      </Stage>
    );
  }
  // the newest records of the topic may be of other types
  const records = rows?.only ? [] : (newest.data?.items ?? []);
  return (
    <Stage title={`What goes through of ${name ?? topic}`}>
      <ProblemNote problem={problemOf(newest.error) ?? problemOf(delivery.error)} />
      {newest.data?.items.length === 0 && <p className="quiet">There is no record yet.</p>}
      {rows?.only && delivery.data?.rows.length === 0 && (
        <p className="quiet">None of the newest records is of these types.</p>
      )}
      {delivery.data && delivery.data.rows.length > 0 && <DeliveredRows sample={delivery.data} />}
      {delivery.data?.finding && <p className="breaks">▲ {delivery.data.finding}</p>}
      {records.length > 0 && <div className="choice-label">The newest records</div>}
      {records.map((record) => (
        <pre tabIndex={0} className="rawform mono" key={`${record.partition}-${record.offset}`}>
          {JSON.stringify(record.key)}
          {'\n'}
          {JSON.stringify(record.value, null, 1)}
        </pre>
      ))}
    </Stage>
  );
}
