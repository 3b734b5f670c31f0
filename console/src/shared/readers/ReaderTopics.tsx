import { Button, Group, Text } from '@mantine/core';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
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
  const body = { topics: reads, start: { to: start } };
  const come = reads.filter((topic) => !reader.topics.includes(topic));
  const gone = reader.topics.filter((topic) => !reads.includes(topic));
  const plan = useQuery({
    queryKey: ['reader', reader.name, 'topics', body],
    queryFn: () => changeTopics(reader.name, body, null),
    enabled: reads.length > 0 && come.length + gone.length > 0,
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const changing = useMutation({
    mutationFn: (tag: string) => changeTopics(reader.name, body, tag),
    onError: () => void plan.refetch(),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: readersQuery.queryKey });
      onClose();
    },
  });
  return (
    <Dialog opened onClose={onClose} title={`What ${reader.name} reads`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (plan.data) changing.mutate(plan.data.tag);
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
        {plan.data && come.length + gone.length > 0 && (
          <div role="status" style={{ marginTop: 12 }}>
            {plan.data.says.map((line) => (
              <Text key={line} size="sm">
                {line}
              </Text>
            ))}
          </div>
        )}
        <div style={{ marginTop: 12 }}>
          <ProblemNote problem={problemOf(changing.error ?? plan.error)} />
        </div>
        <Group mt="md" justify="flex-end">
          <Button variant="default" onClick={onClose}>
            Cancel
          </Button>
          <Button
            type="submit"
            loading={changing.isPending}
            disabled={!plan.data || plan.isPlaceholderData || reads.length === 0 || come.length + gone.length === 0}
          >
            Change what it reads
          </Button>
        </Group>
      </form>
    </Dialog>
  );
}
