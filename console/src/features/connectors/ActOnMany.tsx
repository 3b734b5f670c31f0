import { Button, Group } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { exportUrl } from '../../shared/exporting';
import { count } from '../../shared/format';
import type { Connector } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { actOnMany, planOnMany, type Action } from './connectorsQueries';

const ACTIONS: [Action, string][] = [
  ['start', 'Start'],
  ['pause', 'Pause'],
  ['stop', 'Stop'],
  ['restart', 'Start anew'],
];

/** Actions on the connectors that were chosen: first what they come to, then done. */
export function ActOnMany({ connectors, onDone }: { connectors: Connector[]; onDone: () => void }) {
  const [action, setAction] = useState<Action | null>(null);
  if (connectors.length === 0) return null;
  return (
    <div className="tools" role="group" aria-label="Act on those that are chosen" style={{ alignItems: 'center' }}>
      <strong>{count(connectors.length)} chosen</strong>
      {ACTIONS.map(([value, label]) => (
        <Button key={value} size="compact-sm" variant="default" onClick={() => setAction(value)}>
          {label}
        </Button>
      ))}
      <Button
        size="compact-sm"
        variant="default"
        component="a"
        href={exportUrl(
          'connector',
          connectors.map((c) => c.name),
        )}
        download="connectors.yaml"
      >
        Export as text
      </Button>
      <Button size="compact-sm" variant="subtle" onClick={onDone}>
        Choose none
      </Button>
      {action && (
        <Confirm
          ids={connectors.map((c) => c.id)}
          action={action}
          onClose={() => setAction(null)}
          onDone={() => {
            setAction(null);
            onDone();
          }}
        />
      )}
    </div>
  );
}

function Confirm({
  ids,
  action,
  onClose,
  onDone,
}: {
  ids: string[];
  action: Action;
  onClose: () => void;
  onDone: () => void;
}) {
  const label = ACTIONS.find(([value]) => value === action)?.[1] ?? action;
  const preview = useQuery({
    queryKey: ['connectors', 'act', action, ids],
    queryFn: () => planOnMany(ids, action),
    staleTime: 0,
    gcTime: 0,
  });
  const doing = useMutation({
    mutationFn: (changing: string[]) => actOnMany(changing, action),
    onSuccess: (done) => {
      if (done.every((o) => o.refused == null)) onDone();
    },
  });
  const outcomes = preview.data?.outcomes ?? [];
  const changing = outcomes.filter((o) => o.changes);
  const same = outcomes.length - changing.length;
  const refused = (doing.data ?? []).filter((o) => o.refused != null);
  return (
    <Dialog opened onClose={onClose} title={`${label}: what it comes to`}>
      <ProblemNote problem={problemOf(preview.error) ?? problemOf(doing.error)} />
      {doing.data ? (
        <>
          <p>
            Done with {count(doing.data.length - refused.length)} of {count(doing.data.length)}. These refused:
          </p>
          <ul className="outcomes">
            {refused.map((one) => (
              <li key={one.connector}>
                <strong>{one.name}</strong>: {one.refused}
              </li>
            ))}
          </ul>
        </>
      ) : (
        <>
          <ul className="outcomes">
            {changing.slice(0, 100).map((one) => (
              <li key={one.connector}>
                <strong>{one.name}</strong> <span className="quiet">({one.state})</span> {one.says}.
              </li>
            ))}
            {changing.length > 100 && <li>and {count(changing.length - 100)} more</li>}
          </ul>
          {preview.data && changing.length === 0 && <p>None of them would change.</p>}
          {same > 0 && changing.length > 0 && <p className="quiet">{count(same)} more stay as they are.</p>}
        </>
      )}
      <Group mt="md" justify="flex-end">
        <Button variant="default" onClick={doing.data ? onDone : onClose}>
          {doing.data ? 'Close' : 'Leave them'}
        </Button>
        {!doing.data && (
          <Button
            disabled={changing.length === 0}
            loading={doing.isPending}
            onClick={() => doing.mutate(changing.map((o) => o.connector))}
            data-autofocus
          >
            {label} {count(changing.length)}
          </Button>
        )}
      </Group>
    </Dialog>
  );
}
