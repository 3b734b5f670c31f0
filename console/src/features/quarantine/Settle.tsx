import { Button, Group, NumberInput, Textarea } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { discard, retry, type Which } from './quarantineQueries';

/** Trying records again, or giving them up. */
export function Settle({ which, records, quietly }: { which: Which; records: number; quietly?: boolean }) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState<'retry' | 'discard' | null>(null);
  const [pace, setPace] = useState<number | null>(null);
  const [reason, setReason] = useState('');
  const done = () => {
    setAsking(null);
    setReason('');
    void queries.invalidateQueries({ queryKey: ['quarantine'] });
  };
  const trying = useMutation({ mutationFn: () => retry(which, pace), onSuccess: done });
  // how many they are may have changed since the list was read
  const plan = useQuery({
    queryKey: ['plan', 'discard', which],
    queryFn: () => discard(which, '', null),
    enabled: asking === 'discard',
    gcTime: 0,
    refetchOnWindowFocus: false,
  });
  const giving = useMutation({
    mutationFn: (tag: string) => discard(which, reason, tag),
    onSuccess: done,
    onError: () => void plan.refetch(),
  });
  const given = plan.data?.records ?? records;
  const many = records === 1 ? 'it' : `all ${count(records)}`;
  const size = quietly ? 'compact-sm' : 'sm';
  return (
    <Group gap="xs" wrap="nowrap">
      <Button
        size={size}
        variant={quietly ? 'default' : 'filled'}
        style={{ flexShrink: 0 }}
        disabled={records === 0}
        loading={trying.isPending}
        onClick={() => (records === 1 ? trying.mutate() : setAsking('retry'))}
      >
        Try {many} again
      </Button>
      <Button
        size={size}
        variant="subtle"
        color="apricot"
        disabled={records === 0}
        onClick={() => setAsking('discard')}
      >
        Discard
      </Button>
      {asking === 'retry' && (
        <Dialog size="md" opened onClose={() => setAsking(null)} title={`Try ${many} again`}>
          <ProblemNote problem={problemOf(trying.error)} />
          <p>
            They are delivered in the order of their offsets. One whose key was delivered anew since is superseded and
            is not written; one that fails again waits on.
          </p>
          <NumberInput
            label="Records a second at most"
            placeholder="as fast as they go"
            min={1}
            max={100_000}
            allowDecimal={false}
            thousandSeparator=","
            value={pace ?? ''}
            onChange={(value) => setPace(Number(value) || null)}
          />
          <Group mt="md" justify="flex-end">
            <Button variant="default" onClick={() => setAsking(null)}>
              Leave them
            </Button>
            <Button data-autofocus loading={trying.isPending} onClick={() => trying.mutate()}>
              Try {many} again
            </Button>
          </Group>
        </Dialog>
      )}
      {asking === 'discard' && (
        <Dialog
          size="md"
          opened
          onClose={() => setAsking(null)}
          title={`Discard ${given === 1 ? 'one record' : `${count(given)} records`}`}
        >
          <form
            onSubmit={(event) => {
              event.preventDefault();
              if (plan.data) giving.mutate(plan.data.tag);
            }}
          >
            <ProblemNote problem={problemOf(giving.error ?? plan.error)} />
            <p>
              {given === 1 ? 'It is' : 'They are'} never delivered. In the topic{' '}
              {given === 1 ? 'it stays' : 'they stay'}; here {given === 1 ? 'it stays' : 'they stay'} to be looked at
              until {given === 1 ? 'it is' : 'they are'} forgotten.
            </p>
            <Textarea
              label="Why"
              required
              data-autofocus
              autosize
              minRows={2}
              maxLength={1_000}
              value={reason}
              onChange={(e) => setReason(e.currentTarget.value)}
            />
            <Group mt="md" justify="flex-end">
              <Button variant="default" onClick={() => setAsking(null)}>
                Keep {given === 1 ? 'it' : 'them'}
              </Button>
              <Button
                type="submit"
                color="apricot.8"
                disabled={reason.trim() === '' || !plan.data}
                loading={giving.isPending}
              >
                Discard
              </Button>
            </Group>
          </form>
        </Dialog>
      )}
      {asking === null && <ProblemNote problem={problemOf(trying.error)} />}
    </Group>
  );
}
