import { Checkbox, Loader, NumberInput, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';

import { problemOf } from '../../api/client';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { topicsQuery } from '../../shared/topicsQuery';
import type { TopicsDraft } from './builder';
import { Failed, Stage, type Change, type Check } from './Stage';

/** Which topics are read, and which ones their shaped rows go to. */
export function CarriesStage({ draft, change, failed }: { draft: TopicsDraft; change: Change; failed: Check[] }) {
  const topics = useQuery(topicsQuery);
  return (
    <Stage title="Topics">
      <Failed checks={failed} />
      <ProblemNote problem={problemOf(topics.error)} />
      {topics.isPending && <Loader size="sm" />}
      {topics.data?.length === 0 && <p className="empty">There is no topic yet: a source connector makes them.</p>}
      <ul className="shapes">
        {topics.data?.map((topic) => {
          const to = draft.carries[topic.name];
          return (
            <li key={topic.name}>
              <Checkbox
                label={topic.name}
                description={`${count(topic.records)} records`}
                checked={to !== undefined}
                onChange={(e) => change({ type: 'topic', topic: topic.name, chosen: e.currentTarget.checked })}
              />
              {to !== undefined && (
                <TextInput
                  size="xs"
                  w={220}
                  aria-label={`Topic for the rows of ${topic.name}`}
                  value={to}
                  onChange={(e) => change({ type: 'carriedTo', topic: topic.name, to: e.currentTarget.value })}
                />
              )}
            </li>
          );
        })}
      </ul>
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
