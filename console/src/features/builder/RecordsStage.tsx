import { Checkbox, NumberInput, TextInput } from '@mantine/core';

import { useKindOf } from '../../shared/connections/kinds';
import type { SourceDraft } from './builder';
import { Stage, type Change } from './Stage';
import { ValuesChoice } from './ValuesChoice';

/** What the records hold, how they are written, and the topics they go to. */
export function RecordsStage({ draft, change }: { draft: SourceDraft; change: Change }) {
  const tells = useKindOf(draft.system?.id)?.source?.schema_changes ?? true;
  const told = draft.schemaChanges !== '';
  return (
    <Stage title="Into which records">
      <ValuesChoice values={draft.values} change={change} />
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
      {(tells || told) && (
        <Checkbox
          mt="sm"
          label="Tell changes of the tables’ columns in a topic"
          checked={told}
          onChange={(e) => {
            const topic = `${draft.system?.name ?? 'source'}.schema-changes`;
            change({ type: 'ofSource', set: { schemaChanges: e.currentTarget.checked ? topic : '' } });
          }}
        />
      )}
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
