import { Group, TextInput } from '@mantine/core';

import type { SinkDraft } from './builder';
import { EventRowsLine } from './EventRowsLine';
import { Failed, Stage, type Change, type Check } from './Stage';
import { TopicPicker } from './TopicPicker';

interface Props {
  draft: SinkDraft;
  change: Change;
  failed: Check[];
  onColumns: (topic: string) => void;
}

/** Which topics are read, and which tables they go to. */
export function TopicsStage({ draft, change, failed, onColumns }: Props) {
  return (
    <Stage title="From which topics">
      <Failed checks={failed} />
      <TopicPicker
        chosen={Object.keys(draft.topics)}
        change={change}
        under={(topic) => (
          <>
            <Target topic={topic} draft={draft} change={change} />
            <EventRowsLine topic={topic} rows={draft.rows[topic]} change={change} onColumns={onColumns} />
          </>
        )}
      />
    </Stage>
  );
}

function Target({ topic, draft, change }: { topic: string; draft: SinkDraft; change: Change }) {
  const table = draft.topics[topic];
  if (!table) return null;
  return (
    <Group className="under" gap={6} wrap="nowrap">
      <TextInput
        size="xs"
        w={120}
        aria-label={`Schema for ${topic}`}
        leftSection="to"
        value={table.schema}
        onChange={(e) => change({ type: 'tableOf', topic, table: { ...table, schema: e.currentTarget.value } })}
      />
      <TextInput
        size="xs"
        style={{ flex: 1 }}
        aria-label={`Table for ${topic}`}
        value={table.table}
        onChange={(e) => change({ type: 'tableOf', topic, table: { ...table, table: e.currentTarget.value } })}
      />
    </Group>
  );
}
