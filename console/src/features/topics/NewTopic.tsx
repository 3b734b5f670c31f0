import { Button, Group, NumberInput, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { problemOf, fieldOf } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { ProblemNote } from '../../shared/ProblemNote';
import { KEEP_ALL, KeepForm } from './KeepForm';
import { topicsQuery } from '../../shared/topicsQuery';
import { createTopic } from './topicsQueries';

const BESIDE_FIELDS = ['name', 'partitions', 'forget_after_ms', 'most_bytes', 'deletes_kept_ms', 'hot_span_ms'];

/** Makes a topic: its name, its partitions, what it keeps. */
export function NewTopic({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState('');
  const [partitions, setPartitions] = useState<number | string>(6);
  const [settings, setSettings] = useState(KEEP_ALL);
  const making = useMutation({
    mutationFn: () => createTopic({ name, partitions: Number(partitions), settings }),
    onSuccess: (topic) => {
      void queries.invalidateQueries({ queryKey: topicsQuery.queryKey });
      void navigate(`/topics/${encodeURIComponent(topic.name)}`);
    },
  });
  const problem = problemOf(making.error);
  const error = (field: string) => (fieldOf(problem) === field ? problem?.detail : undefined);
  return (
    <Dialog opened onClose={onClose} title="Make a topic">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          making.mutate();
        }}
      >
        <TextInput
          label="Name"
          description="Letters, digits, dots, dashes and underscores; it cannot be changed later."
          value={name}
          onChange={(event) => setName(event.currentTarget.value)}
          error={error('name')}
          data-autofocus
          autoComplete="off"
        />
        <NumberInput
          mt="sm"
          mb="md"
          label="Partitions"
          description="As many members as partitions can read at once. More can be added later, but then keys go to other partitions."
          w={320}
          min={1}
          max={1000}
          allowDecimal={false}
          value={partitions}
          onChange={setPartitions}
          error={error('partitions')}
        />
        <KeepForm settings={settings} problem={problem} onChange={setSettings} />
        <div style={{ marginTop: 12 }}>
          <ProblemNote problem={BESIDE_FIELDS.includes(fieldOf(problem) ?? '') ? null : problem} />
        </div>
        <Group mt="md" justify="flex-end">
          <Button variant="default" onClick={onClose}>
            Cancel
          </Button>
          <Button type="submit" loading={making.isPending} disabled={name === ''}>
            Make the topic
          </Button>
        </Group>
      </form>
    </Dialog>
  );
}
