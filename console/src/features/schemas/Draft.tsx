import { Button, Group, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { SchemaText } from '../../shared/SchemaText';
import { Differences, Misfits } from './Misfits';
import { References } from './References';
import { breachTitle, grouped, pretty } from './words';
import { checkQuery, impactQuery, register, schemaQuery, type Schema } from './schemasQueries';

/** The next version while it is written: what it changes, what it breaks, and for whom. */
export function Draft({ schema }: { schema: Schema }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const latest = schema.versions[0];
  const begun = latest ? pretty(schema, latest.text) : '';
  const [text, setText] = useState(begun);
  const [why, setWhy] = useState('');
  const [references, setReferences] = useState(latest?.references ?? []);
  const changed = JSON.stringify(references) !== JSON.stringify(latest?.references ?? []);
  const [settled] = useDebouncedValue(text, 250);
  const check = useQuery({
    ...checkQuery(schema.name, { text: settled, references }),
    placeholderData: keepPreviousData,
  });
  const verdict = check.data;
  const current = settled === text && !check.isPlaceholderData;
  const readable = verdict !== undefined && !verdict.fault && (settled !== begun || changed);
  const impact = useQuery({
    ...impactQuery(schema.name, { text: settled, references }),
    enabled: readable && current,
    placeholderData: keepPreviousData,
  });
  const saving = useMutation({
    mutationFn: () => register(schema.name, { text, references }, why),
    onSuccess: async ({ version }) => {
      await queries.invalidateQueries({ queryKey: schemaQuery(schema.name).queryKey });
      void navigate(`/schemas/${encodeURIComponent(schema.name)}?version=${version}`);
    },
  });
  return (
    <div className="building drafting">
      <section className="sheet" aria-label="Text of the draft">
        <h2>Version {(latest?.version ?? 0) + 1}, a draft</h2>
        <SchemaText
          label="Text of the draft"
          language={schema.language}
          text={text}
          fault={current ? verdict?.fault : null}
          onType={setText}
        />
      </section>
      <div className="aside">
        <section className="sheet" aria-label="Verdict" aria-live="polite">
          <h2>{verdict ? verdictTitle(verdict, settled === begun && !changed) : 'Checking'}</h2>
          <div style={{ padding: '4px 16px 14px' }}>
            <ProblemNote problem={problemOf(check.error)} />
            {readable && impact.data && <Trials trials={impact.data.trials} />}
            {grouped(verdict?.breaches ?? []).map((group) => (
              <div key={`${group.half}${group.versions[0]}`} style={{ marginTop: 10 }}>
                <strong className="breaks">▲ {breachTitle(group)}</strong>
                <Misfits misfits={group.misfits} />
              </div>
            ))}
            {readable && (
              <>
                <h3>What changes</h3>
                <Differences differences={verdict.differences} />
              </>
            )}
            {readable && (
              <form
                onSubmit={(event) => {
                  event.preventDefault();
                  saving.mutate();
                }}
              >
                <TextInput
                  mt="md"
                  label="Why"
                  description="Stays with the version."
                  value={why}
                  onChange={(event) => setWhy(event.currentTarget.value)}
                />
                <ProblemNote problem={problemOf(saving.error)} />
                <Group mt="md" justify="flex-end">
                  <Button type="submit" loading={saving.isPending} disabled={!verdict.passes || !current}>
                    Register version {(latest?.version ?? 0) + 1}
                  </Button>
                </Group>
              </form>
            )}
          </div>
        </section>
        <References language={schema.language} own={schema.name} references={references} onChange={setReferences} />
        {readable && (
          <section className="sheet" aria-label="Impact">
            <h2>Whom it touches</h2>
            <div style={{ padding: '4px 16px 14px' }}>
              <ProblemNote problem={problemOf(impact.error)} />
              {impact.data ? <Impact impact={impact.data} /> : <p className="quiet">Reading recent records …</p>}
            </div>
          </section>
        )}
      </div>
    </div>
  );
}

function verdictTitle(verdict: Schemas['SchemaVerdict'], unchanged: boolean): string {
  if (verdict.fault) return 'It cannot be read';
  if (unchanged) return 'Change the text to see what it does';
  if (verdict.same_as != null) return `It is version ${verdict.same_as} again`;
  return verdict.passes ? 'It keeps the rule' : 'It does not keep the rule';
}

/** What the newest records say to the draft. */
function Trials({ trials }: { trials: Schemas['Trial'][] }) {
  const tried = trials.filter((t) => t.tried > 0);
  return (
    <>
      {tried.length === 0 && <p className="quiet">There is no record yet to try it on.</p>}
      {tried.map((trial) => (
        <div key={`${trial.topic} ${trial.role}`}>
          <p style={{ marginBottom: 4 }}>
            {trial.failed === 0 ? (
              <>It reads all of the last {count(trial.tried)} records</>
            ) : (
              <strong className="breaks">
                ▲ It cannot read {count(trial.failed)} of the last {count(trial.tried)} records
              </strong>
            )}{' '}
            of {trial.topic}.
          </p>
          <ul className="misfits">
            {trial.first.map((record) => (
              <li key={`${record.partition} ${record.offset}`}>
                <span className="mono">
                  {record.partition}/{record.offset}
                </span>{' '}
                {record.version != null && <span className="quiet">version {record.version} · </span>}
                {record.finding}
              </li>
            ))}
          </ul>
        </div>
      ))}
    </>
  );
}

/** What uses a schema, in words. */
const KINDS: Record<string, string> = { topics: 'between topics', shape: 'its shape' };

function Impact({ impact }: { impact: Schemas['SchemaImpact'] }) {
  if (impact.uses.length === 0) return <p className="quiet">No connector and no reader.</p>;
  return (
    <>
      <ul className="misfits">
        {impact.uses.map((use, n) => (
          <li key={n}>
            <strong>{use.name}</strong> <span className="quiet">({KINDS[use.kind] ?? use.kind})</span> {use.meaning}
            {use.fields.length > 0 && <div className="quiet mono">{use.fields.join(', ')}</div>}
            {use.statement && <pre className="rawform mono">{use.statement}</pre>}
          </li>
        ))}
      </ul>
    </>
  );
}
