import { Button, Group, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, fieldOf } from '../../api/client';
import { Dialog } from '../Dialog';
import { ProblemNote } from '../ProblemNote';
import { createReader, readersQuery } from './readersQueries';
import { type Begins, TopicsToRead } from './TopicsToRead';

/** Makes a reader: its name, its topics, where it begins. */
export function NewReader({ chosen, onClose }: { chosen: string[]; onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState('');
  const [reads, setReads] = useState(chosen);
  const [start, setStart] = useState<Begins>('earliest');
  const making = useMutation({
    mutationFn: () => createReader({ name, topics: reads, start: { to: start } }),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: readersQuery.queryKey });
      onClose();
    },
  });
  const problem = problemOf(making.error);
  return (
    <Dialog opened onClose={onClose} title="Make a reader">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          making.mutate();
        }}
      >
        <TextInput
          label="Name"
          value={name}
          onChange={(event) => setName(event.currentTarget.value)}
          error={fieldOf(problem) === 'name' ? problem?.detail : undefined}
          data-autofocus
          autoComplete="off"
        />
        <TopicsToRead reads={reads} onReads={setReads} begins={start} onBegins={setStart} />
        <div style={{ marginTop: 12 }}>
          <ProblemNote problem={fieldOf(problem) === 'name' ? null : problem} />
        </div>
        <Group mt="md" justify="flex-end">
          <Button variant="default" onClick={onClose}>
            Cancel
          </Button>
          <Button type="submit" loading={making.isPending} disabled={name === '' || reads.length === 0}>
            Make the reader
          </Button>
        </Group>
      </form>
    </Dialog>
  );
}
