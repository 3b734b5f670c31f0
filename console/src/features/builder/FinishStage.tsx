import { Button, Group, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { problemOf, type Schemas, fieldOf } from '../../api/client';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { Checks } from '../../shared/Checks';
import { cannotLoad, ExistingRowsChoice } from '../../shared/ExistingRowsChoice';
import { ProblemNote } from '../../shared/ProblemNote';
import { missing, type Draft } from './builder';
import { CarriedStage } from './CarriedStage';
import { create, mend, preflight, saveDraft } from './builderQueries';
import { definitionOf, request, type Becomes } from './exchange';
import { Guaranteed } from './GuaranteeChoice';
import { work } from './kept';
import { Stage, type Change, type Check } from './Stage';

interface Props {
  draft: Draft;
  change: Change;
  /** A manifest that was typed and cannot be read. */
  unread: string | null;
  /** The unfinished draft that it goes on with. */
  kept?: Schemas['UnfinishedDraft'];
  /** Told what a preflight found missing, to be shown beside what it belongs to. */
  onFailed: (checks: Check[]) => void;
}

/** The name, what is guaranteed, the preflight, and the start. */
export function FinishStage({ draft, change, unread, kept, onFailed }: Props) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const { connectors } = useLiveConnectors();
  const [mended, setMended] = useState<Schemas['Preflight'] | null>(null);
  // rows that were found where it would write: what becomes of them is asked before it is created
  const [there, setThere] = useState<Check[]>([]);
  const definition = definitionOf(draft);
  const unsaid = draft.kind !== 'topics' && draft.existingRows === null;
  const taken = (connectors ?? []).map((c) => c.name);
  const lacks = unread !== null ? 'The manifest has a fault: mend it first.' : missing(draft, taken);
  const asks = lacks ?? (unsaid && there.length > 0 ? 'Say what becomes of the rows that are there already.' : null);
  const tell = (checks: Check[] | undefined) => onFailed((checks ?? []).filter((c) => c.outcome === 'failed'));
  const check = useMutation({ mutationFn: preflight, onSuccess: (report) => tell(report.checks) });
  const save = useMutation({
    mutationFn: create,
    onError: (error) => tell(problemOf(error)?.checks),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: ['connectors'] });
      void queries.invalidateQueries({ queryKey: ['drafts'] });
      void navigate(`/connectors/${made.id}`);
    },
  });
  const keep = useMutation({
    mutationFn: saveDraft,
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ['drafts'] });
      void navigate('/connectors');
    },
  });
  // what lacks something is kept as it is, to go on with later; what does not becomes a connector
  const put = (to?: { id: string; revision: number }) => {
    if (lacks === null) return send('draft');
    check.reset();
    save.reset();
    const body = { name: draft.name, kind: draft.kind, lacks, work: work(draft, unread) };
    keep.mutate(to ? { kept: to, body } : { body });
  };
  const mending = useMutation({
    mutationFn: (name: string) => {
      const body = request(draft, 'started');
      if (!body) throw new Error('there is no connector to mend for');
      return mend({ connector: body, check: name });
    },
    onSuccess: (report) => {
      save.reset();
      setMended(report);
      tell(report.checks);
    },
  });
  const send = (becomes: Becomes) => {
    const body = request(draft, becomes, kept?.id);
    check.reset();
    keep.reset();
    setMended(null);
    if (!body || (asks && becomes !== 'draft')) return;
    if (!unsaid || becomes === 'draft') return save.mutate(body);
    const found = (report: Schemas['Preflight']) => {
      const rows = report.checks.filter((c) => c.field === 'existing_rows' && c.outcome === 'warning');
      setThere(rows);
      if (rows.length === 0) save.mutate(body);
    };
    check.mutate(body, { onSuccess: found });
  };
  const tryOut = () => {
    const body = request(draft, 'started');
    save.reset();
    keep.reset();
    setMended(null);
    if (body && !lacks) check.mutate(body);
  };
  const report = mended ?? check.data;
  const problem = problemOf(save.error) ?? problemOf(check.error);
  const checks: Check[] = problem?.checks?.length ? problem.checks : (report?.checks ?? []);
  const nameProblem = fieldOf(problem) === 'name' ? `${problem?.detail}.` : undefined;
  return (
    <Stage title="Guarantee and start">
      <TextInput
        label="Name of the connector"
        value={draft.name}
        error={taken.includes(draft.name) ? 'There is a connector of this name already' : nameProblem}
        onChange={(event) => change({ type: 'name', name: event.currentTarget.value })}
      />
      <Guaranteed draft={draft} />
      <CarriedStage draft={draft} change={change} />
      {draft.kind !== 'topics' && (there.length > 0 || draft.existingRows !== null) && (
        <section aria-label="Rows that are there already" style={{ marginBottom: 12 }}>
          {there.map((c) => (
            <p key={c.name} role="alert" style={{ margin: '4px 0' }}>
              <span className="mono" style={{ overflowWrap: 'anywhere' }}>
                {c.finding}
              </span>
              .
            </p>
          ))}
          <ExistingRowsChoice
            kind={draft.kind}
            value={draft.existingRows}
            onChange={(rows) => change({ type: 'existing', rows })}
            not={definition ? cannotLoad(definition) : {}}
          />
        </section>
      )}
      {asks && <p className="quiet">{asks}</p>}
      <Group gap="xs" mt="xs">
        <Button disabled={asks !== null} loading={save.isPending || check.isPending} onClick={() => send('started')}>
          Create and start
        </Button>
        <Button
          variant="default"
          disabled={asks !== null || save.isPending || check.isPending}
          onClick={() => send('ready')}
        >
          Create without starting
        </Button>
        <Button variant="default" disabled={lacks !== null} loading={check.isPending} onClick={tryOut}>
          Check only
        </Button>
        <Button
          variant="subtle"
          disabled={save.isPending}
          loading={keep.isPending}
          title="Nothing is checked until it is started"
          onClick={() => put(kept)}
        >
          Save as a draft
        </Button>
      </Group>
      {keep.error && (
        <div style={{ marginTop: 14 }}>
          <ProblemNote problem={problemOf(keep.error)} />
          {kept && (
            <Button variant="default" onClick={() => put()}>
              Save as another draft
            </Button>
          )}
        </div>
      )}
      <div style={{ marginTop: 14 }}>
        {problem && !nameProblem && checks.length === 0 && <ProblemNote problem={problem} />}
        {problem && checks.length > 0 && (
          <p role="alert">
            <strong>{problem.title}.</strong> Nothing was created.
          </p>
        )}
        {report?.ready && (
          <div className="note well">Everything it needs is there. Checked in {report.took_ms} ms.</div>
        )}
        <ProblemNote problem={problemOf(mending.error)} />
        <Checks
          checks={checks}
          onMend={(name) => mending.mutate(name)}
          mending={mending.isPending ? mending.variables : null}
        />
      </div>
    </Stage>
  );
}
