import { Group, TextInput } from '@mantine/core';

import type { SinkDraft } from './builder';
import { ReadParts } from './ReadParts';
import { Failed, Stage, type Change, type Check } from './Stage';
import { TopicPicker } from './TopicPicker';
import { topicsOf } from './types';

interface Props {
  draft: SinkDraft;
  change: Change;
  failed: Check[];
  onColumns: (name: string) => void;
}

/** Which topics are read, and which tables they go to. */
export function TopicsStage({ draft, change, failed, onColumns }: Props) {
  const names = Object.keys(draft.topics);
  return (
    <Stage title="From which topics">
      <Failed checks={failed} />
      <TopicPicker
        chosen={topicsOf(names)}
        change={change}
        under={(topic) => (
          <ReadParts topic={topic} names={names} rows={draft.rows} change={change} onColumns={onColumns}>
            {(name) => ({ to: <Target name={name} draft={draft} change={change} /> })}
          </ReadParts>
        )}
      />
    </Stage>
  );
}

function Target({ name, draft, change }: { name: string; draft: SinkDraft; change: Change }) {
  const table = draft.topics[name];
  if (!table) return null;
  // where tables stand in no schemas, there is none to say
  const has = draft.system?.usual_schema != null || table.schema !== '';
  return (
    <Group gap={6} wrap="nowrap">
      {has && (
        <TextInput
          size="xs"
          w={120}
          aria-label={`Schema for ${name}`}
          leftSection="to"
          value={table.schema}
          onChange={(e) => change({ type: 'tableOf', topic: name, table: { ...table, schema: e.currentTarget.value } })}
        />
      )}
      <TextInput
        size="xs"
        style={{ flex: 1 }}
        aria-label={`Table for ${name}`}
        value={table.table}
        onChange={(e) => change({ type: 'tableOf', topic: name, table: { ...table, table: e.currentTarget.value } })}
      />
    </Group>
  );
}
