import { ActionIcon, Button, Group, Menu, SegmentedControl } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState, type KeyboardEvent } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { ProblemNote } from '../ProblemNote';
import { topicsQuery } from '../topicsQuery';
import type { TableName } from '../tables';
import { Comparison } from './Comparison';
import { Functions } from './Functions';
import { MadeRows } from './MadeRows';
import { Rules } from './Rules';
import { Sample } from './Sample';
import {
  blank,
  labelOf,
  moved,
  removed,
  replaced,
  sentence,
  STEPS,
  stepsOf,
  withRules,
  withSteps,
  type Kind,
  type MadeRow,
  type Shapes,
  type ShapeStep,
} from './shape';
import { functionsQuery, triedQuery } from './shapeQueries';
import { Findings } from './SqlField';
import { StepFields } from './StepFields';

interface Props {
  shape: Shapes;
  onChange: (shape: Shapes) => void;
  /** Whose steps they are: a topic, or `schema.table`. */
  name: string;
  /** Where rows are taken from. */
  rows: Schemas['RowsFrom'];
  /** The topic that a source writes, and how. */
  topic?: string | undefined;
  values?: Schemas['Values'] | undefined;
  /** The tables that rules may be for, as `schema.table`. */
  tables: readonly TableName[];
  /** What kind of connector's shape it is. */
  kind: Kind;
  /** The shape in force, where the connector runs already. */
  inForce?: Shapes | undefined;
}

type View = 'steps' | 'rules' | 'sql';

/** Steps as a list to add, order and switch off, with real rows beside it. */
export function ShapeEditor({ shape, onChange, name, rows, topic, values, tables, kind, inForce }: Props) {
  const steps = stepsOf(shape, name);
  const [view, setView] = useState<View>('steps');
  const [open, setOpen] = useState<number | null>(steps.length > 0 ? 0 : null);
  const [made, setMade] = useState<MadeRow[]>([]);
  const [body] = useDebouncedValue<Schemas['TryShape']>(
    { shape, rows, topic, values: values ?? { form: 'change', encoding: 'avro' }, made },
    250,
  );
  const asked = useQuery(triedQuery(body));
  const functions = useQuery(functionsQuery).data ?? [];
  const topics = (useQuery(topicsQuery).data ?? []).map((t) => t.name);
  const tried = asked.data;
  const findings = tried?.findings ?? [];
  const set = (next: ShapeStep[]) => onChange(withSteps(shape, name, next));
  const add = (step: ShapeStep) => {
    const place = open === null ? steps.length : open + 1;
    set([...steps.slice(0, place), step, ...steps.slice(place)]);
    setOpen(place);
  };
  const of = (n: number) => findings.filter((f) => f.step === n);
  const move = (from: number, to: number) => {
    if (to < 0 || to >= steps.length) return;
    set(moved(steps, from, to));
    setOpen(to);
  };
  const onKey = (event: KeyboardEvent, n: number) => {
    const by = event.key === 'ArrowUp' ? -1 : event.key === 'ArrowDown' ? 1 : 0;
    if (by !== 0 && event.altKey) move(n, n + by);
    else if (by !== 0) focus(event, n + by);
    else if (event.key === 'Delete') {
      set(removed(steps, n));
      setOpen(null);
    } else return;
    event.preventDefault();
  };
  return (
    <div className="shaping">
      <section className="sheet stage" aria-label="Steps">
        <h2>
          What happens to <span className="mono">{name}</span>
        </h2>
        <div>
          <Group justify="space-between" mb="sm">
            <SegmentedControl
              size="xs"
              aria-label="Shown as"
              data={[
                { value: 'steps', label: 'Steps' },
                { value: 'rules', label: 'Rules for many tables' },
                { value: 'sql', label: 'SQL' },
              ]}
              value={view}
              onChange={(next) => setView(next as View)}
            />
            <AddStep onAdd={add} />
          </Group>
          {view === 'rules' && (
            <Rules
              rules={shape.rules ?? []}
              onChange={(rules) => onChange(withRules(shape, rules))}
              tables={tables}
              findings={findings.filter((f) => f.step == null)}
            />
          )}
          {view === 'sql' && (
            <Statement tried={tried} onTake={(select) => set([{ step: 'sql', select }])} steps={steps.length} />
          )}
          {view === 'steps' && (
            <>
              {steps.length === 0 && (
                <p className="empty">
                  Rows go as they come. Add a first step: hide a column, filter rows, add a computed one.
                </p>
              )}
              <ol className="steps">
                {steps.map((step, n) => (
                  <li key={n} data-off={step.off || undefined} data-wrong={of(n).some((f) => f.wrong) || undefined}>
                    <div className="stephead">
                      <button
                        type="button"
                        className="stepname"
                        aria-expanded={open === n}
                        onClick={() => setOpen(open === n ? null : n)}
                        onKeyDown={(event) => onKey(event, n)}
                      >
                        <span className="number">{n + 1}</span>
                        <span>
                          <strong>{labelOf(step.step)}</strong>
                          {step.off && <span className="quiet"> · off</span>}
                          {open !== n && <span className="says mono">{sentence(step)}</span>}
                        </span>
                      </button>
                      <ActionIcon
                        variant="subtle"
                        aria-label={`Step ${n + 1} earlier`}
                        disabled={n === 0}
                        onClick={() => move(n, n - 1)}
                      >
                        ↑
                      </ActionIcon>
                      <ActionIcon
                        variant="subtle"
                        aria-label={`Step ${n + 1} later`}
                        disabled={n === steps.length - 1}
                        onClick={() => move(n, n + 1)}
                      >
                        ↓
                      </ActionIcon>
                      <ActionIcon
                        variant="subtle"
                        aria-label={`Take step ${n + 1} out`}
                        onClick={() => set(removed(steps, n))}
                      >
                        ×
                      </ActionIcon>
                    </div>
                    {open === n ? (
                      <StepFields
                        step={step}
                        onChange={(next) => set(replaced(steps, n, next))}
                        columns={tried?.before[n] ?? []}
                        functions={functions}
                        findings={of(n)}
                        topics={topics}
                        kind={kind}
                      />
                    ) : (
                      <Findings findings={of(n)} />
                    )}
                  </li>
                ))}
              </ol>
              <Functions functions={functions} />
            </>
          )}
        </div>
      </section>
      <section className="sheet stage" aria-label="Real rows">
        <h2>
          {open === null || view !== 'steps'
            ? 'Real rows, before and after all steps'
            : `Real rows, before and after step ${open + 1}`}
        </h2>
        <div>
          <ProblemNote problem={problemOf(asked.error)} />
          {findings.some((f) => f.wrong) && (
            <p className="breaks">▲ A step is wrong: rows are shown as far as they come before it.</p>
          )}
          <Sample tried={tried} waiting={asked.isFetching} step={view === 'steps' ? open : null} made={made.length} />
          <MadeRows tried={tried} made={made} onChange={setMade} />
          {inForce && <Comparison before={inForce} after={shape} rows={rows} />}
          {tried?.schema && <NextSchema schema={tried.schema} topic={topic ?? ''} />}
        </div>
      </section>
    </div>
  );
}

/** The step above or below gets the focus. */
function focus(event: KeyboardEvent, to: number): void {
  const all = event.currentTarget.closest('ol')?.querySelectorAll<HTMLButtonElement>('.stepname');
  all?.[to]?.focus();
}

function AddStep({ onAdd }: { onAdd: (step: ShapeStep) => void }) {
  const groups = [...new Set(STEPS.map((s) => s.group))];
  return (
    <Menu position="bottom-end" width={250}>
      <Menu.Target>
        <Button size="xs">Add a step</Button>
      </Menu.Target>
      <Menu.Dropdown mah={420} style={{ overflowY: 'auto' }}>
        {groups.map((group) => (
          <div key={group}>
            <Menu.Label>{group}</Menu.Label>
            {STEPS.filter((s) => s.group === group).map((s) => (
              <Menu.Item key={s.word} onClick={() => onAdd(blank(s.word))}>
                {s.label}
              </Menu.Item>
            ))}
          </div>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
}

interface StatementProps {
  tried: Schemas['TriedShape'] | undefined;
  steps: number;
  onTake: (select: string) => void;
}

/** What the steps come to, as one statement. */
function Statement({ tried, steps, onTake }: StatementProps) {
  const text = tried?.statement;
  if (text == null)
    return (
      <p className="quiet">
        {tried ? 'There is no statement while a step is wrong, or where it would be too long to read.' : ''}
      </p>
    );
  const plain = !/JOIN|^--/m.test(text);
  return (
    <>
      <pre tabIndex={0} className="rawform mono">
        {text}
      </pre>
      {steps > 0 && plain && (
        <Button size="xs" variant="default" onClick={() => onTake(text)}>
          Go on in SQL, as one step
        </Button>
      )}
      {!plain && (
        <p className="quiet">Lookups, ways and repeats are steps of their own: SQL over one row cannot say them.</p>
      )}
    </>
  );
}

/** What becomes of the topic's schema. */
function NextSchema({ schema, topic }: { schema: Schemas['ShapeSchema']; topic: string }) {
  const changes = schema.differences;
  return (
    <details className="further">
      <summary>
        {schema.passes
          ? changes.length === 0
            ? `The schema of ${topic} stays as it is`
            : `The schema of ${topic} gets a version that passes its rule`
          : `▲ The schema of ${topic} would not pass its rule`}
      </summary>
      <ul className="findings">
        {changes.map((d) => (
          <li key={`${d.path} ${d.words}`} data-wrong={d.breaks ? true : undefined}>
            <span className="mono">{d.path}</span> {d.words}
            {d.breaks && ` · ${d.breaks}`}
          </li>
        ))}
      </ul>
      <pre tabIndex={0} className="rawform mono">
        {pretty(schema.text)}
      </pre>
    </details>
  );
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 1);
  } catch {
    return text;
  }
}
