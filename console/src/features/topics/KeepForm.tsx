import { Radio, Stack } from '@mantine/core';

import { fieldOf, type Problem } from '../../api/client';
import { Span } from './Span';
import { SIZES } from './spans';
import type { TopicSettings } from './topicsQueries';

interface Props {
  settings: TopicSettings;
  problem: Problem | null;
  onChange: (settings: TopicSettings) => void;
}

export const KEEP_ALL: TopicSettings = {
  keep: 'all',
  forget_after_ms: null,
  most_bytes: null,
  deletes_kept_ms: 86_400_000,
  hot_span_ms: null,
};

/** What a topic keeps. */
export function KeepForm({ settings, problem, onChange }: Props) {
  const change = (part: Partial<TopicSettings>) => onChange({ ...settings, ...part });
  const error = (field: string) => (fieldOf(problem) === field ? problem?.detail : undefined);
  const latest = settings.keep === 'latest';
  return (
    <Stack gap="md">
      <Radio.Group
        label="Keep"
        value={settings.keep}
        onChange={(keep) =>
          change(
            keep === 'latest' ? { keep: 'latest', hot_span_ms: null } : { keep: 'all', deletes_kept_ms: 86_400_000 },
          )
        }
      >
        <Stack gap={6} mt={4}>
          <Radio
            value="all"
            label="every record"
            description="A log of all that happened, until age or size ends it."
          />
          <Radio
            value="latest"
            label="the latest of each key"
            description="Older records of a key go in the background; the newest of each key stays, in its place."
          />
        </Stack>
      </Radio.Group>
      <Span
        label="Forget after"
        description="Records go this long after their time, or after they were appended if that was later."
        value={settings.forget_after_ms ?? null}
        error={error('forget_after_ms')}
        onChange={(forget_after_ms) => change({ forget_after_ms })}
      />
      <Span
        label="Largest size"
        description="The oldest go while the topic is larger than this, as stored."
        units={SIZES}
        value={settings.most_bytes ?? null}
        error={error('most_bytes')}
        onChange={(most_bytes) => change({ most_bytes })}
      />
      {latest ? (
        <Span
          label="Deletes stay for"
          description="So that readers learn that a key is gone before the record of it goes."
          required
          value={settings.deletes_kept_ms ?? 86_400_000}
          error={error('deletes_kept_ms')}
          onChange={(ms) => change({ deletes_kept_ms: ms ?? 0 })}
        />
      ) : (
        <Span
          label="Hot span"
          description="Older blocks move to object storage, if the server has one, and are read on from there."
          value={settings.hot_span_ms ?? null}
          error={error('hot_span_ms')}
          onChange={(hot_span_ms) => change({ hot_span_ms })}
        />
      )}
    </Stack>
  );
}
