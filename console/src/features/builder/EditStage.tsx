import { Button, Group } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { Checks } from '../../shared/Checks';
import { Difference } from '../../shared/Difference';
import { changeTo, planChange } from '../../shared/editing';
import { cannotLoad, ExistingRowsChoice } from '../../shared/ExistingRowsChoice';
import { ProblemNote } from '../../shared/ProblemNote';
import type { Draft } from './builder';
import { CarriedStage } from './CarriedStage';
import { definitionOf } from './exchange';
import { Stage, type Change, type Check } from './Stage';

/** What brings tables or topics in, of which rows may be there already. */
const COME_IN = ['loads_new', 'delivers_new'];

interface Props {
  connector: Schemas['Connector'];
  draft: Draft;
  change: Change;
  /** Whether a manifest was typed that cannot be read. */
  unread: boolean;
  /** Told what a preflight found missing, to be shown beside what it belongs to. */
  onFailed: (checks: Check[]) => void;
}

/** What an edit of a connector will do, before it is saved. */
export function EditStage({ connector, draft, change, unread, onFailed }: Props) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const definition = definitionOf(draft);
  const preview = useQuery({
    queryKey: ['connector', connector.id, 'preview', connector.version, definition],
    queryFn: () => {
      if (!definition) throw new Error('there is no system');
      return planChange(connector.id, connector.version, { definition });
    },
    enabled: definition !== null,
    retry: false,
  });
  const saving = useMutation({
    mutationFn: (tag: string) => {
      if (!definition) throw new Error('there is no system');
      return changeTo(connector.id, connector.version, { definition }, tag);
    },
    onError: (error) => {
      onFailed((problemOf(error)?.checks ?? []).filter((c) => c.outcome === 'failed'));
      void preview.refetch();
    },
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ['connector', connector.id] });
      void navigate(`/connectors/${connector.id}`);
    },
  });
  const problem = problemOf(saving.error) ?? problemOf(preview.error);
  const { consequences = [] } = preview.data ?? {};
  const [before, after] = [preview.data?.before ?? '', preview.data?.after ?? ''];
  const same = before === after;
  return (
    <Stage title="What this changes">
      <CarriedStage draft={draft} change={change} />
      <ProblemNote problem={problem && !problem.checks?.length ? problem : null} />
      {problem?.checks && problem.checks.length > 0 && (
        <>
          <p role="alert">
            <strong>{problem.title}.</strong> Nothing was changed.
          </p>
          <Checks checks={problem.checks} />
        </>
      )}
      {unread && <p role="alert">The manifest has a fault: mend it first.</p>}
      {preview.data && same && !unread && <p className="quiet">Nothing yet: it is as version {connector.version}.</p>}
      {preview.data && !same && (
        <>
          <ul className="consequences">
            {consequences.map((one) => (
              <li key={one.kind}>
                {one.says}
                {one.concerns.length > 0 && <div className="mono">{one.concerns.join(', ')}</div>}
              </li>
            ))}
            {consequences.length === 0 && <li>It is a draft: nothing runs yet.</li>}
          </ul>
          {draft.kind !== 'topics' && consequences.some((one) => COME_IN.includes(one.kind)) && (
            <ExistingRowsChoice
              kind={draft.kind}
              value={draft.existingRows ?? 'keep'}
              onChange={(rows) => change({ type: 'existing', rows })}
              not={definition ? cannotLoad(definition) : {}}
            />
          )}
          <Difference before={before} after={after} />
        </>
      )}
      <Group gap="xs" mt="sm">
        <Button
          disabled={!preview.data || same || unread}
          loading={saving.isPending}
          onClick={() => preview.data && saving.mutate(preview.data.tag)}
        >
          Save as version {connector.version + 1}
        </Button>
        <Button variant="default" onClick={() => void navigate(`/connectors/${connector.id}`)}>
          Leave it as it is
        </Button>
      </Group>
    </Stage>
  );
}
