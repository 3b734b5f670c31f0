import { NumberInput, TextInput } from '@mantine/core';

import type { TopicsDraft } from './builder';
import { EventRowsLine } from './EventRowsLine';
import { FitLine } from './FitLine';
import { Failed, Stage, type Change, type Check } from './Stage';
import { TopicPicker } from './TopicPicker';
import { ValuesChoice } from './ValuesChoice';

interface Props {
  draft: TopicsDraft;
  change: Change;
  failed: Check[];
  onColumns: (topic: string) => void;
}

/** Which topics are read, and which ones their shaped rows go to. */
export function CarriesStage({ draft, change, failed, onColumns }: Props) {
  return (
    <Stage title="From which topics into which">
      <Failed checks={failed} />
      <TopicPicker
        chosen={Object.keys(draft.carries)}
        change={change}
        under={(topic) => (
          <>
            <div className="under">
              <TextInput
                size="xs"
                leftSection="to"
                aria-label={`Topic for the rows of ${topic}`}
                value={draft.carries[topic] ?? ''}
                onChange={(e) => change({ type: 'carriedTo', topic, to: e.currentTarget.value })}
              />
            </div>
            <EventRowsLine topic={topic} rows={draft.rows[topic]} change={change} onColumns={onColumns} />
            <FitLine draft={draft} topic={topic} change={change} />
          </>
        )}
      />
      <ValuesChoice values={draft.values} change={change} />
      <NumberInput
        mt="sm"
        size="xs"
        w={220}
        label="Partitions of new topics"
        min={1}
        max={1000}
        allowDecimal={false}
        value={draft.partitions}
        onChange={(v) => change({ type: 'partitions', partitions: Number(v) || 1 })}
      />
    </Stage>
  );
}
