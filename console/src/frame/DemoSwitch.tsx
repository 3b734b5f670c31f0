import { Button, NumberInput, Popover, Switch } from '@mantine/core';
import { notifications } from '@mantine/notifications';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../api/client';
import { count } from '../shared/format';
import { healthQuery } from '../shared/healthQuery';
import { switchWorkload, workloadQuery } from './frameQueries';

/** The day at the packhouse, on or off: only the demo has it. */
export function DemoSwitch() {
  const health = useQuery(healthQuery);
  const demo = health.data?.demo === true;
  const workload = useQuery({ ...workloadQuery, enabled: demo, refetchInterval: 2_000 });
  const queries = useQueryClient();
  const [rate, setRate] = useState<number | string>(20);
  const change = useMutation({
    mutationFn: switchWorkload,
    onSuccess: (now) => queries.setQueryData(workloadQuery.queryKey, now),
    onError: (error) => {
      const problem = problemOf(error);
      notifications.show({ color: 'apricot', title: problem?.title, message: problem?.detail ?? '' });
    },
  });
  if (!demo || !workload.data) return null;
  const { running, done } = workload.data;
  return (
    <Popover position="bottom-end" withArrow shadow="sm">
      <Popover.Target>
        <Button variant="subtle" size="compact-sm" color="pine">
          {running ? `A day at the packhouse: ${workload.data.rate}/s` : 'A day at the packhouse: off'}
        </Button>
      </Popover.Target>
      <Popover.Dropdown maw={340}>
        <p style={{ marginTop: 0 }}>
          The demo's workload picks, regrades, moves and voids bins in the <span className="mono">packhouse</span>{' '}
          database, so that there is something to follow.
        </p>
        <NumberInput
          label="Transactions a second"
          min={1}
          max={20_000}
          value={rate}
          onChange={setRate}
          onBlur={() => running && change.mutate({ running: true, rate: Number(rate) || 20 })}
        />
        <Switch
          mt="md"
          label={running ? `Runs, ${count(done)} transactions done` : 'Off'}
          checked={running}
          onChange={(event) => change.mutate({ running: event.currentTarget.checked, rate: Number(rate) || 20 })}
        />
      </Popover.Dropdown>
    </Popover>
  );
}
