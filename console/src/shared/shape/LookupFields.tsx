import { Checkbox, Select, TextInput } from '@mantine/core';

import { Choice, Column, Rows } from './controls';
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
      <Select
        label="Reference topic"
        description="Its current rows by key, kept current in memory"
        searchable
        data={[...topics]}
        value={step.topic || null}
        onChange={(topic) => onChange({ ...step, topic: topic ?? '' })}
      />
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
        label="Without such a row"
        value={step.miss ?? 'empty'}
        data={[
          { value: 'empty', label: 'its columns are null' },
          { value: 'leave', label: 'the row goes no further' },
          { value: 'refuse', label: 'the row is put aside' },
        ]}
        onChange={(miss) => onChange({ ...step, miss: miss as Of<'lookup'>['miss'] })}
      />
      {(kind === 'topics' || step.again) && (
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
