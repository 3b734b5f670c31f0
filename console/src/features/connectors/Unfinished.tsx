import { Button, Group } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { fits } from '../../shared/Filter';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { When } from '../../shared/When';
import { discardDraft, draftsQuery } from './connectorsQueries';

type Entry = Schemas['DraftEntry'];

/** Shown before one asks for the others: the fleet itself stays in sight. */
const FEW = 3;

const KINDS: Record<Entry['kind'], string> = { source: 'source', sink: 'sink', topics: 'between topics' };

/** Connectors that were put aside before they were complete: what each lacks, and the way back to it. */
export function Unfinished({ kind, filter }: { kind: string; filter: string }) {
  const drafts = useQuery({ ...draftsQuery, ...useKeptCurrent('draft') });
  const [all, setAll] = useState(false);
  const shown = (drafts.data ?? []).filter(
    (d) => (kind === 'all' || d.kind === kind) && fits(filter, d.name, d.kind, 'draft', 'unfinished'),
  );
  if (shown.length === 0) return null;
  const few = all ? shown : shown.slice(0, FEW);
  return (
    <section className="sheet unfinished" aria-label="Unfinished drafts">
      <h2>Unfinished drafts</h2>
      <ul>
        {few.map((draft) => (
          <Line key={draft.id} draft={draft} />
        ))}
      </ul>
      {shown.length > few.length && (
        <Button variant="subtle" size="compact-sm" onClick={() => setAll(true)}>
          Show {shown.length - few.length} more
        </Button>
      )}
    </section>
  );
}

function Line({ draft }: { draft: Entry }) {
  const queries = useQueryClient();
  const [asked, setAsked] = useState(false);
  const discard = useMutation({
    mutationFn: discardDraft,
    // also where it failed: someone may have discarded or created it meanwhile
    onSettled: () => queries.invalidateQueries({ queryKey: ['drafts'] }),
  });
  const name = draft.name === '' ? 'No name yet' : draft.name;
  return (
    <li>
      <div className="about">
        <Link className="name" data-row to={`/connectors/new?draft=${draft.id}`}>
          {name}
        </Link>
        <span className="quiet">
          {KINDS[draft.kind]}, saved <When time={draft.saved_at} />
          {draft.saved_by !== '' && ` by ${draft.saved_by}`}
        </span>
        <span>{draft.lacks}</span>
        <ProblemNote problem={problemOf(discard.error)} />
      </div>
      <Group gap="xs" wrap="nowrap">
        {asked ? (
          <>
            <Button
              size="compact-sm"
              color="apricot.8"
              loading={discard.isPending}
              onClick={() => discard.mutate(draft.id)}
            >
              Discard what was chosen
            </Button>
            <Button size="compact-sm" variant="default" onClick={() => setAsked(false)}>
              Keep it
            </Button>
          </>
        ) : (
          <>
            <Button size="compact-sm" variant="default" component={Link} to={`/connectors/new?draft=${draft.id}`}>
              Go on
            </Button>
            <Button size="compact-sm" variant="subtle" aria-label={`Discard ${name}`} onClick={() => setAsked(true)}>
              Discard
            </Button>
          </>
        )}
      </Group>
    </li>
  );
}
