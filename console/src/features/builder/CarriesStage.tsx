import { NumberInput, TextInput } from '@mantine/core';

import type { TopicsDraft } from './builder';
import { FitLine } from './FitLine';
import { ReadParts } from './ReadParts';
import { Failed, Stage, type Change, type Check } from './Stage';
import { TopicPicker } from './TopicPicker';
import { topicsOf } from './types';
import { ValuesChoice } from './ValuesChoice';

interface Props {
  draft: TopicsDraft;
  change: Change;
  failed: Check[];
  onColumns: (name: string) => void;
}

/** Which topics are read, and which ones their shaped rows go to. */
export function CarriesStage({ draft, change, failed, onColumns }: Props) {
  const names = Object.keys(draft.carries);
  return (
    <Stage title="From which topics into which">
      <Failed checks={failed} />
      <TopicPicker
        chosen={topicsOf(names)}
        change={change}
        under={(topic) => (
          <ReadParts topic={topic} names={names} rows={draft.rows} change={change} onColumns={onColumns}>
            {(name) => ({
              to: (
                <TextInput
                  size="xs"
                  leftSection="to"
                  aria-label={`Topic for the rows of ${name}`}
                  value={draft.carries[name] ?? ''}
                  onChange={(e) => change({ type: 'carriedTo', topic: name, to: e.currentTarget.value })}
                />
              ),
              more: <FitLine draft={draft} topic={name} change={change} />,
            })}
          </ReadParts>
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
