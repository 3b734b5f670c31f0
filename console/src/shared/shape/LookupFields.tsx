import { Checkbox, NumberInput, Select, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';

import type { Schemas } from '../../api/client';
import { connectionsQuery } from '../connections/connectionsQueries';
import { Choice } from '../Choice';
import { Column, Rows } from './controls';
import type { Kind, Of, ShapeStep } from './shape';

interface LookupProps {
  step: Of<'lookup'>;
  onChange: (step: ShapeStep) => void;
  names: readonly string[];
  topics: readonly string[];
  kind: Kind;
}

/** What is looked up where. */
export function LookupFields({ step, onChange, names, topics, kind }: LookupProps) {
  return (
    <>
      <Choice
        small
        label="Look into"
        value={step.table ? 'table' : 'topic'}
        data={[
          { value: 'topic', label: 'a reference topic' },
          { value: 'table', label: 'a table of a system' },
        ]}
        onChange={(into) =>
          onChange({
            ...bare(step),
            ...(into === 'table' ? { table: { connection: '', schema: '', table: '' } } : { topic: '' }),
          } as ShapeStep)
        }
      />
      {step.table ? (
        <LookedUpTable table={step.table} onChange={(table) => onChange({ ...step, table })} />
      ) : (
        <Select
          label="Reference topic"
          description="Its current rows by key, kept current in memory"
          searchable
          data={[...topics]}
          value={step.topic || null}
          onChange={(topic) => onChange({ ...step, topic: topic ?? '' })}
        />
      )}
      <Rows
        what="comparison"
        rows={step.by}
        blank={{ column: '', key: 'id' }}
        onChange={(by) => onChange({ ...step, by })}
      >
        {(pair, set) => (
          <>
            <Column
              label="Column here"
              names={names}
              value={pair.column}
              onChange={(column) => set({ ...pair, column })}
            />
            <TextInput
              label="is the key column"
              value={pair.key}
              onChange={(e) => set({ ...pair, key: e.currentTarget.value })}
            />
          </>
        )}
      </Rows>
      <Rows
        what="column"
        rows={step.columns}
        blank={{ from: '', column: '' }}
        onChange={(columns) => onChange({ ...step, columns })}
      >
        {(add, set) => (
          <>
            <TextInput
              label="Its column"
              value={add.from}
              onChange={(e) => set({ ...add, from: e.currentTarget.value })}
            />
            <TextInput
              label="is called here"
              value={add.column}
              onChange={(e) => set({ ...add, column: e.currentTarget.value })}
            />
          </>
        )}
      </Rows>
      <Choice
        small
        label="Without such a row"
        value={step.miss ?? 'empty'}
        data={[
          { value: 'empty', label: 'its columns are null' },
          { value: 'leave', label: 'the row goes no further' },
          { value: 'refuse', label: 'the row is put aside' },
        ]}
        onChange={(miss) => onChange({ ...step, miss: miss as Of<'lookup'>['miss'] })}
      />
      {((kind === 'topics' && !step.table) || step.again) && (
        <Checkbox
          size="xs"
          mt="sm"
          label="When the reference changes, rows that were carried before are carried again"
          description="Without it they keep what they found; rows that come later find what is there then."
          checked={step.again ?? false}
          onChange={(e) => onChange({ ...step, again: e.currentTarget.checked || undefined } as ShapeStep)}
        />
      )}
    </>
  );
}

/** The step without what it looks into. */
function bare({ off, by, columns, miss }: Of<'lookup'>) {
  return { step: 'lookup' as const, off, by, columns, miss };
}

interface TableProps {
  table: Schemas['LookedUpTable'];
  onChange: (table: Schemas['LookedUpTable']) => void;
}

/** A table of a system, and how often it is read. */
function LookedUpTable({ table, onChange }: TableProps) {
  const connections = useQuery(connectionsQuery).data ?? [];
  return (
    <>
      <div className="steprow">
        <Select
          label="Connection"
          searchable
          data={connections.map((c) => ({ value: c.id, label: c.name }))}
          value={table.connection || null}
          onChange={(connection) => {
            const usual = (id: string | null) => connections.find((c) => c.id === id)?.usual_schema ?? '';
            const schema = table.schema === usual(table.connection) ? usual(connection) : table.schema;
            onChange({ ...table, connection: connection ?? '', schema });
          }}
        />
        <TextInput
          label="Schema"
          value={table.schema}
          onChange={(e) => onChange({ ...table, schema: e.currentTarget.value })}
        />
        <TextInput
          label="Table"
          value={table.table}
          onChange={(e) => onChange({ ...table, table: e.currentTarget.value })}
        />
      </div>
      <NumberInput
        label="Read anew every so many seconds"
        description="All of it, each time"
        w={280}
        min={5}
        max={86400}
        allowDecimal={false}
        value={table.every_seconds ?? 60}
        onChange={(v) => onChange({ ...table, every_seconds: Number(v) || 60 })}
      />
    </>
  );
}
