import { Button, Group, MultiSelect, Select, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { Dialog } from '../Dialog';
import { ProblemNote } from '../ProblemNote';
import { topicsQuery } from '../topicsQuery';
import { createReader, readersQuery } from './readersQueries';

/** Makes a reader: its name, its topics, where it begins. */
export function NewReader({ chosen, onClose }: { chosen: string[]; onClose: () => void }) {
  const queries = useQueryClient();
  const topics = useQuery(topicsQuery);
  const [name, setName] = useState('');
  const [reads, setReads] = useState(chosen);
  const [start, setStart] = useState<'earliest' | 'latest'>('earliest');
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
          error={problem?.field === 'name' ? problem.detail : undefined}
          data-autofocus
          autoComplete="off"
        />
        <MultiSelect
          mt="sm"
          label="Reads"
          placeholder={reads.length === 0 ? 'Choose topics' : undefined}
          data={(topics.data ?? []).map((t) => t.name)}
          value={reads}
          onChange={setReads}
          searchable
          limit={50}
        />
        <Select
          mt="sm"
          label="Begins at"
          data={[
            { value: 'earliest', label: 'the oldest kept records' },
            { value: 'latest', label: 'what is appended from now on' },
          ]}
          value={start}
          onChange={(value) => setStart(value === 'latest' ? 'latest' : 'earliest')}
        />
        <div style={{ marginTop: 12 }}>
          <ProblemNote problem={problem?.field === 'name' ? null : problem} />
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
