import { Button, Group } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { Difference } from '../../shared/Difference';
import type { Connector } from '../../shared/liveConnectors';
import { changeTo, planChange } from '../../shared/editing';
import { ProblemNote } from '../../shared/ProblemNote';
import { When } from '../../shared/When';
import { versionsQuery } from './connectorsQueries';

type Version = Schemas['ConnectorVersion'];

/** Every definition the connector had, what changed from one to the next, and the way back. */
export function Versions({ connector }: { connector: Connector }) {
  const versions = useQuery(versionsQuery(connector.id, connector.version));
  const [open, setOpen] = useState<number | null>(null);
  const all = versions.data ?? [];
  return (
    <section className="sheet" aria-label="Versions" style={{ marginTop: 16 }}>
      <h2>Versions</h2>
      <ProblemNote problem={problemOf(versions.error)} />
      <ul className="versions">
        {all.map((version, place) => (
          <li key={version.version}>
            <Group gap="sm" justify="space-between">
              <span>
                <strong>{version.version}</strong>{' '}
                <span className="quiet">
                  <When time={version.made_at} />
                </span>
                {version.version === connector.version && ' · in force'}
              </span>
              <Button
                size="compact-sm"
                variant="subtle"
                aria-expanded={open === version.version}
                onClick={() => setOpen(open === version.version ? null : version.version)}
              >
                {open === version.version ? 'Close' : 'Look at it'}
              </Button>
            </Group>
            {open === version.version && <One connector={connector} version={version} before={all[place + 1]} />}
          </li>
        ))}
      </ul>
    </section>
  );
}

function One({ connector, version, before }: { connector: Connector; version: Version; before?: Version }) {
  const queries = useQueryClient();
  const inForce = version.version === connector.version;
  const change = { definition: version.definition };
  const preview = useQuery({
    queryKey: ['connector', connector.id, 'return', version.version, connector.version],
    queryFn: () => planChange(connector.id, connector.version, change),
    enabled: !inForce,
    retry: false,
  });
  const back = useMutation({
    mutationFn: (tag: string) => changeTo(connector.id, connector.version, change, tag),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['connector', connector.id] }),
  });
  return (
    <div className="version">
      {before ? (
        <>
          <p className="quiet">What changed from version {before.version}:</p>
          <Difference before={before.manifest} after={version.manifest} />
        </>
      ) : (
        <pre tabIndex={0} className="difference mono">
          {version.manifest}
        </pre>
      )}
      <ProblemNote problem={problemOf(preview.error) ?? problemOf(back.error)} />
      {!inForce && preview.data && (
        <>
          <ul className="consequences">
            {preview.data.consequences.map((one) => (
              <li key={one.kind}>
                {one.says}
                {one.concerns.length > 0 && <div className="mono">{one.concerns.join(', ')}</div>}
              </li>
            ))}
            {preview.data.consequences.length === 0 && <li>It is the same as the one in force.</li>}
          </ul>
          <Button
            size="compact-sm"
            variant="default"
            loading={back.isPending}
            disabled={preview.data.consequences.length === 0 && connector.state !== 'draft'}
            onClick={() => back.mutate(preview.data.tag)}
          >
            Go back to version {version.version}
          </Button>
        </>
      )}
    </div>
  );
}
