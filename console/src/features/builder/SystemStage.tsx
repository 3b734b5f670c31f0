import { Button, Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { ConnectionForm } from '../../shared/connections/ConnectionForm';
import { connectionsQuery, kindsQuery } from '../../shared/connections/connectionsQueries';
import { kindFor } from '../../shared/connections/kinds';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import type { Draft, SystemChoice } from './builder';
import { Failed, Stage, type Change, type Check } from './Stage';

/** Which system: a connection that is there, or a new one made in place. */
export function SystemStage({
  title,
  draft,
  change,
  failed,
  fixed,
}: {
  title: string;
  draft: Draft;
  change: Change;
  failed: Check[];
  /** A connector that is there stays with its system: its position means nothing elsewhere. */
  fixed: boolean;
}) {
  const connections = useQuery(connectionsQuery);
  const [making, setMaking] = useState(false);
  const { connectors } = useLiveConnectors();
  const taken = (connectors ?? []).map((c) => c.name);
  const choose = (system: SystemChoice | null) => change({ type: 'system', system, taken });
  const kinds = useQuery(kindsQuery);
  const role = draft.kind === 'sink' ? 'sink' : 'source';
  // those of a kind that is not known yet are offered: whoever chooses one is told
  const suits = (word: string) => kindFor(kinds.data?.find((k) => k.kind === word) ?? null, role);
  const all = (connections.data ?? []).filter((c) => suits(c.kind) || c.id === draft.system?.id);
  const chosen = all.find((c) => c.id === draft.system?.id);
  const none = connections.data !== undefined && all.length === 0;
  return (
    <Stage title={title}>
      <Failed checks={failed} />
      <ProblemNote problem={problemOf(connections.error)} />
      {making || none ? (
        <ConnectionForm
          role={role}
          onSaved={(made) => {
            setMaking(false);
            choose({ id: made.id, name: made.name, usual_schema: made.usual_schema });
          }}
          onCancel={none ? undefined : () => setMaking(false)}
        />
      ) : (
        <>
          <Select
            label="Connection"
            placeholder="Choose one"
            data={all.map((c) => ({ value: c.id, label: c.name }))}
            value={draft.system?.id ?? null}
            disabled={fixed}
            onChange={(id) => {
              const found = all.find((c) => c.id === id);
              choose(found ? { id: found.id, name: found.name, usual_schema: found.usual_schema } : null);
            }}
            searchable
          />
          {chosen && (
            <p className="quiet">
              <span className="mono">{chosen.place}</span>
            </p>
          )}
          {!fixed && (
            <Button mt="sm" variant="default" size="compact-sm" onClick={() => setMaking(true)}>
              Make a new connection
            </Button>
          )}
        </>
      )}
    </Stage>
  );
}
