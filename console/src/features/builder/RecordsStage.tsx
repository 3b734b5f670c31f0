import { Checkbox, NumberInput, SegmentedControl, TextInput } from '@mantine/core';

import type { SourceDraft } from './builder';
import { Stage, type Change } from './Stage';

/** What the records hold, how they are written, and the topics they go to. */
export function RecordsStage({ draft, change }: { draft: SourceDraft; change: Change }) {
  const told = draft.schemaChanges !== '';
  return (
    <Stage title="Into which records">
      <Choice
        label="A value holds"
        value={draft.values.form ?? 'change'}
        onChange={(form) => change({ type: 'values', set: { form } })}
        data={[
          { value: 'change', label: 'The whole change' },
          { value: 'row', label: 'The new row' },
        ]}
      />
      <p className="quiet">
        {draft.values.form === 'row'
          ? 'Only the row after the change; a delete has a key and no value. A truncate cannot be told.'
          : 'The kind, the row after and before it, and where and when it was committed.'}
      </p>
      <Choice
        label="Written as"
        value={draft.values.encoding ?? 'avro'}
        onChange={(encoding) => change({ type: 'values', set: { encoding } })}
        data={[
          { value: 'avro', label: 'Avro' },
          { value: 'json', label: 'JSON' },
        ]}
      />
      <TextInput
        mt="sm"
        label="Topics are named"
        description="By {system}, {schema} and {table}; each can be named by hand as well"
        classNames={{ input: 'mono' }}
        value={draft.template}
        onChange={(e) => change({ type: 'template', template: e.currentTarget.value })}
      />
      <NumberInput
        mt="sm"
        label="Partitions of each topic"
        description="Rows with one key stay in order within their partition"
        min={1}
        max={1000}
        allowDecimal={false}
        value={draft.partitions}
        onChange={(value) => change({ type: 'ofSource', set: { partitions: Number(value) || 1 } })}
      />
      <Checkbox
        mt="sm"
        label="Tell changes of the tables’ columns in a topic"
        checked={told}
        onChange={(e) => {
          const topic = `${draft.system?.name ?? 'source'}.schema-changes`;
          change({ type: 'ofSource', set: { schemaChanges: e.currentTarget.checked ? topic : '' } });
        }}
      />
      {told && (
        <TextInput
          mt="xs"
          aria-label="Topic for changes of columns"
          classNames={{ input: 'mono' }}
          value={draft.schemaChanges}
          onChange={(e) => change({ type: 'ofSource', set: { schemaChanges: e.currentTarget.value } })}
        />
      )}
    </Stage>
  );
}

interface ChoiceProps<T extends string> {
  label: string;
  value: T;
  onChange: (value: T) => void;
  data: { value: T; label: string }[];
}

/** One of a few, all in sight. */
export function Choice<T extends string>({ label, value, onChange, data }: ChoiceProps<T>) {
  return (
    <div className="choice">
      <div className="choice-label">{label}</div>
      <SegmentedControl fullWidth aria-label={label} value={value} onChange={(v) => onChange(v as T)} data={data} />
    </div>
  );
}
