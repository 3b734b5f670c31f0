import { Button, Group, Text } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { Dialog } from '../Dialog';
import { ProblemNote } from '../ProblemNote';
import { changeTopics, type Reader, readersQuery } from './readersQueries';
import { type Begins, TopicsToRead } from './TopicsToRead';

/** Lets a reader read other topics; what that loses is said before. */
export function ReaderTopics({ reader, onClose }: { reader: Reader; onClose: () => void }) {
  const queries = useQueryClient();
  const [reads, setReads] = useState(reader.topics);
  const [start, setStart] = useState<Begins>('earliest');
  const changing = useMutation({
    mutationFn: () => changeTopics(reader.name, { topics: reads, start: { to: start } }),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: readersQuery.queryKey });
      onClose();
    },
  });
  const come = reads.filter((topic) => !reader.topics.includes(topic));
  const gone = reader.topics.filter((topic) => !reads.includes(topic));
  return (
    <Dialog opened onClose={onClose} title={`What ${reader.name} reads`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          changing.mutate();
        }}
      >
        <TopicsToRead
          reads={reads}
          onReads={setReads}
          begins={start}
          onBegins={setStart}
          label="Begins in new ones at"
          disabled={come.length === 0}
        />
        {gone.length > 0 && (
          <Text mt="sm" role="status">
            Its positions in {gone.join(', ')} are lost.
          </Text>
        )}
        <div style={{ marginTop: 12 }}>
          <ProblemNote problem={problemOf(changing.error)} />
        </div>
        <Group mt="md" justify="flex-end">
          <Button variant="default" onClick={onClose}>
            Cancel
          </Button>
          <Button
            type="submit"
            loading={changing.isPending}
            disabled={reads.length === 0 || come.length + gone.length === 0}
          >
            Change what it reads
          </Button>
        </Group>
      </form>
    </Dialog>
  );
}
