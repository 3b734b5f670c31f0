import { ActionIcon, Autocomplete, Button, Group, Table, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { ConfirmPlan } from '../../shared/ConfirmPlan';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { Compared } from '../../shared/shape/Comparison';
import { functionsQuery } from '../../shared/shape/shapeQueries';
import { Findings, SqlField } from '../../shared/shape/SqlField';
import { When } from '../../shared/When';
import { usersOf } from './FunctionsPage';
import {
  deleteFunction,
  EMPTY,
  functionQuery,
  saveFunction,
  triedFunctionQuery,
  withParameters,
  type OwnFunction,
} from './functionsQueries';

const TYPES = [
  'boolean',
  'smallint',
  'integer',
  'bigint',
  'numeric(12,2)',
  'double precision',
  'text',
  'date',
  'timestamp with time zone',
  'interval',
  'jsonb',
  'uuid',
];

/** A function that is not there yet. */
export function NewFunctionPage() {
  return <Editor key="new" kept={null} />;
}

/** A function, as it is in force and as it was before. */
export function FunctionPage() {
  const { name = '' } = useParams();
  const query = useQuery(functionQuery(name));
  if (!query.data)
    return (
      <div className="page">
        <Heading title={name} />
        <ProblemNote problem={problemOf(query.error)} />
      </div>
    );
  return <Editor key={`${name} ${query.data.version}`} kept={query.data} />;
}

interface Part {
  now: OwnFunction;
  onChange: (now: OwnFunction) => void;
}

function Editor({ kept }: { kept: Schemas['FunctionDetail'] | null }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [now, setNow] = useState<OwnFunction>(kept?.function ?? EMPTY);
  const [deleting, setDeleting] = useState(false);
  const [asked] = useDebouncedValue(now, 300);
  const tried = useQuery({ ...triedFunctionQuery(asked), enabled: asked.name !== '' });
  const known = useQuery({ ...functionsQuery, ...useKeptCurrent('function') });
  const forget = () => {
    void queries.invalidateQueries({ queryKey: ['functions'] });
    void queries.invalidateQueries({ queryKey: functionsQuery.queryKey });
  };
  const saving = useMutation({
    mutationFn: () => saveFunction(now, kept?.version ?? 0),
    onSuccess: () => {
      forget();
      void navigate(`/functions/${now.name}`);
    },
  });
  const findings = (field: string) => (tried.data?.findings ?? []).filter((f) => f.field === field);
  const same = kept !== null && JSON.stringify(kept.function) === JSON.stringify(now);
  const users = kept ? usersOf(kept) : '';
  return (
    <form
      className="page"
      onSubmit={(event) => {
        event.preventDefault();
        saving.mutate();
      }}
    >
      <Heading
        title={kept ? kept.function.name : 'Write a function'}
        says={
          kept ? (
            <>
              Version {kept.version}
              {kept.saved_by && `, by ${kept.saved_by}`}, <When time={kept.saved_at} />. Used by{' '}
              {users || 'nothing yet'}.
            </>
          ) : (
            'An expression under a name. Its examples are its tests: they hold before it is saved, and whenever it changes.'
          )
        }
        action={
          <Group gap="sm" wrap="nowrap">
            {kept && (
              <Button variant="default" onClick={() => setDeleting(true)}>
                Delete
              </Button>
            )}
            <Button type="submit" loading={saving.isPending} disabled={now.name === '' || same}>
              {kept ? 'Save as the next version' : 'Save'}
            </Button>
          </Group>
        }
      />
      <ProblemNote problem={problemOf(saving.error)} />
      <div className="building drafting">
        <section className="sheet" aria-label="The function">
          <h2>The function</h2>
          <div className="functionform">
            <TextInput
              label="Name"
              description="Small letters, digits and underscores: it is called by this name"
              value={now.name}
              disabled={kept !== null}
              autoFocus={kept === null}
              autoComplete="off"
              onChange={(event) => setNow({ ...now, name: event.currentTarget.value })}
            />
            <Findings findings={findings('name')} />
            <Textarea
              label="What it is for"
              autosize
              value={now.description ?? ''}
              onChange={(event) => setNow({ ...now, description: event.currentTarget.value })}
            />
            <Findings findings={findings('description')} />
            <Parameters now={now} onChange={setNow} />
            <Findings findings={findings('parameters')} />
            <Autocomplete
              label="Gives"
              w={260}
              data={TYPES}
              value={now.gives}
              onChange={(gives) => setNow({ ...now, gives })}
            />
            <Findings findings={findings('gives')} />
            <div>
              <div className="choice-label">Expression</div>
              <SqlField
                label="Expression"
                text={now.value}
                onType={(value) => setNow({ ...now, value })}
                columns={(now.parameters ?? []).map((p) => ({
                  name: p.name,
                  type: p.type,
                  key: false,
                  nullable: true,
                }))}
                functions={known.data ?? []}
                findings={findings('value')}
                tall
              />
            </div>
          </div>
        </section>
        <div className="aside">
          <Examples now={now} onChange={setNow} tried={tried.data} findings={findings('examples')} />
          <Effects tried={tried.data} />
          {kept && kept.versions.length > 1 && (
            <Versions kept={kept} onTake={(old) => setNow({ ...old, name: now.name })} />
          )}
        </div>
      </div>
      {deleting && (
        <ConfirmPlan
          name={now.name}
          title="Delete this function?"
          action="Delete the function"
          look={() => deleteFunction(now.name, kept?.version ?? 0, null)}
          carryOut={(tag) => deleteFunction(now.name, kept?.version ?? 0, tag)}
          onDone={() => {
            forget();
            void navigate('/functions');
          }}
          onClose={() => setDeleting(false)}
        />
      )}
    </form>
  );
}

function Parameters({ now, onChange }: Part) {
  const all = now.parameters ?? [];
  const put = (n: number, change: Partial<Schemas['Parameter']>) =>
    onChange({ ...now, parameters: all.map((p, m) => (m === n ? { ...p, ...change } : p)) });
  return (
    <div>
      <div className="choice-label">Parameters</div>
      {all.map((parameter, n) => (
        <Group key={n} gap="xs" mb={6} wrap="nowrap">
          <TextInput
            aria-label={`Name of parameter ${n + 1}`}
            w={200}
            value={parameter.name}
            autoComplete="off"
            onChange={(event) => put(n, { name: event.currentTarget.value })}
          />
          <Autocomplete
            aria-label={`Type of parameter ${n + 1}`}
            w={220}
            data={TYPES}
            value={parameter.type}
            onChange={(type) => put(n, { type })}
          />
          <ActionIcon
            variant="subtle"
            color="gray"
            aria-label={`Leave out parameter ${n + 1}`}
            onClick={() =>
              onChange(
                withParameters(
                  now,
                  all.filter((_, m) => m !== n),
                  n,
                ),
              )
            }
          >
            ×
          </ActionIcon>
        </Group>
      ))}
      <Button
        size="xs"
        variant="default"
        onClick={() => onChange(withParameters(now, [...all, { name: `p${all.length + 1}`, type: 'text' }]))}
      >
        One more parameter
      </Button>
    </div>
  );
}

/** Examples with what the function gives for each now. */
function Examples({
  now,
  onChange,
  tried,
  findings,
}: Part & { tried: Schemas['TriedFunction'] | undefined; findings: Schemas['ShapeFinding'][] }) {
  const all = now.examples ?? [];
  const put = (n: number, example: Schemas['FunctionExample']) =>
    onChange({ ...now, examples: all.map((e, m) => (m === n ? example : e)) });
  return (
    <section className="sheet" aria-label="Examples">
      <h2>Examples</h2>
      <Findings findings={findings} />
      <Table.ScrollContainer minWidth={360}>
        <Table aria-label="Examples">
          <Table.Thead>
            <Table.Tr>
              {(now.parameters ?? []).map((p, n) => (
                <Table.Th key={n}>{p.name}</Table.Th>
              ))}
              <Table.Th>gives</Table.Th>
              <Table.Th />
              <Table.Th />
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {all.map((example, n) => (
              <Table.Tr key={n}>
                {example.given.map((given, m) => (
                  <Table.Td key={m}>
                    <TextInput
                      size="xs"
                      classNames={{ input: 'mono' }}
                      aria-label={`Example ${n + 1}: ${now.parameters?.[m]?.name ?? ''}`}
                      value={given}
                      onChange={(event) => {
                        const text = event.currentTarget.value;
                        put(n, { ...example, given: example.given.map((g, k) => (k === m ? text : g)) });
                      }}
                    />
                  </Table.Td>
                ))}
                <Table.Td>
                  <TextInput
                    size="xs"
                    classNames={{ input: 'mono' }}
                    aria-label={`Example ${n + 1} gives`}
                    placeholder="null"
                    value={example.gives ?? ''}
                    onChange={(event) => {
                      const text = event.currentTarget.value;
                      put(n, text === '' ? { given: example.given } : { ...example, gives: text });
                    }}
                  />
                </Table.Td>
                <Table.Td>
                  <Outcome tried={tried?.examples[n]} />
                </Table.Td>
                <Table.Td>
                  <ActionIcon
                    variant="subtle"
                    color="gray"
                    aria-label={`Leave out example ${n + 1}`}
                    onClick={() => onChange({ ...now, examples: all.filter((_, m) => m !== n) })}
                  >
                    ×
                  </ActionIcon>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      <div className="tools">
        <Button
          size="xs"
          variant="default"
          onClick={() => onChange({ ...now, examples: [...all, { given: (now.parameters ?? []).map(() => 'NULL') }] })}
        >
          One more example
        </Button>
        <span className="quiet">Arguments are written as in an expression: &apos;first&apos;, 12.5, NULL.</span>
      </div>
    </section>
  );
}

function Outcome({ tried }: { tried: Schemas['TriedExample'] | undefined }) {
  if (!tried) return null;
  if (tried.holds) return <span className="holds">holds</span>;
  return (
    <span className="fails" role="alert">
      {tried.finding ?? `gives ${tried.found ?? 'null'}`}
    </span>
  );
}

/** What saving would do to the newest rows of all that use the function. */
function Effects({ tried }: { tried: Schemas['TriedFunction'] | undefined }) {
  if (!tried || tried.effects.length === 0) return null;
  return (
    <section className="sheet" aria-label="What it does to those that use it">
      <h2>What it does to those that use it</h2>
      {tried.effects.map((effect) => (
        <div key={`${effect.connector} ${effect.of}`} className="effect comparison">
          <strong>{effect.connector}</strong> <span className="quiet">{effect.of}</span>
          {effect.finding && <p className="quiet">Its rows cannot be read: {effect.finding}</p>}
          {effect.compared && <Compared found={effect.compared} unit="of its newest rows" />}
        </div>
      ))}
    </section>
  );
}

function Versions({ kept, onTake }: { kept: Schemas['FunctionDetail']; onTake: (old: OwnFunction) => void }) {
  return (
    <section className="sheet" aria-label="Versions">
      <h2>Versions</h2>
      <ul className="versions">
        {kept.versions.map((version) => (
          <li key={version.version}>
            <Group justify="space-between" wrap="nowrap">
              <span>
                {version.version} <span className="quiet">{version.saved_by}</span>{' '}
                <span className="quiet">
                  <When time={version.saved_at} />
                </span>
              </span>
              <Button size="compact-xs" variant="subtle" onClick={() => onTake(version.function)}>
                Take it up again
              </Button>
            </Group>
            <div className="mono quiet" style={{ overflowWrap: 'anywhere' }}>
              {version.function.value}
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
