import { Button, Group, NumberInput } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { count } from '../format';
import { ProblemNote } from '../ProblemNote';
import type { Shapes } from './shape';
import { compareShapes } from './shapeQueries';

interface Props {
  /** The shape in force. */
  before: Shapes;
  after: Shapes;
  rows: Schemas['RowsFrom'];
}

const KINDS = [
  { what: 'fails', label: 'fail', of: (c: Schemas['ComparedShapes']) => c.fail },
  { what: 'disappears', label: 'disappear', of: (c: Schemas['ComparedShapes']) => c.disappear },
  { what: 'appears', label: 'appear', of: (c: Schemas['ComparedShapes']) => c.appear },
  { what: 'changes', label: 'change', of: (c: Schemas['ComparedShapes']) => c.change },
];

/** What another shape does to many rows, compared with the one in force. */
export function Comparison({ before, after, rows }: Props) {
  const [most, setMost] = useState(10_000);
  const compare = useMutation({ mutationFn: () => compareShapes({ before, after, rows, most }) });
  const found = compare.data;
  return (
    <section className="comparison" aria-label="Tried on many rows">
      <Group gap="xs" align="flex-end">
        <NumberInput
          size="xs"
          label={rows.from === 'topic' ? 'Try on the last' : 'Try on so many rows'}
          w={130}
          min={1}
          max={100_000}
          thousandSeparator=","
          allowDecimal={false}
          value={most}
          onChange={(v) => setMost(Number(v) || 10_000)}
        />
        <Button size="xs" variant="default" loading={compare.isPending} onClick={() => compare.mutate()}>
          Compare with what is in force
        </Button>
      </Group>
      <ProblemNote problem={problemOf(compare.error)} />
      {found && <Compared found={found} unit={rows.from === 'topic' ? 'records' : 'rows'} />}
    </section>
  );
}

/** What a comparison came to: how many rows come out otherwise, and some of them. */
export function Compared({ found, unit }: { found: Schemas['ComparedShapes']; unit: string }) {
  const wrong = found.findings.find((f) => f.wrong);
  if (wrong) return <p className="breaks">▲ It cannot run yet: {wrong.message}</p>;
  return (
    <>
      <p>
        Of {count(found.rows)} {unit}, <strong>{count(found.same)}</strong> come out the same
        {KINDS.filter((k) => k.of(found) > 0).map((k) => (
          <span key={k.what}>
            , <strong data-what={k.what}>{count(k.of(found))}</strong> {k.label}
          </span>
        ))}
        .
      </p>
      {(found.columns_new.length > 0 || found.columns_gone.length > 0) && (
        <p className="quiet">
          {found.columns_new.length > 0 && `New columns: ${found.columns_new.join(', ')}. `}
          {found.columns_gone.length > 0 && `Columns that go: ${found.columns_gone.join(', ')}.`}
        </p>
      )}
      <ul className="examples">
        {found.examples.map((example, n) => (
          <li key={n}>
            {example.key === '' ? 'A row' : 'Key '}
            <strong>{example.key}</strong> {example.what}
            {example.finding ? `: ${example.finding}` : ''}
            <div className="mono quiet">{differing(example)}</div>
          </li>
        ))}
      </ul>
    </>
  );
}

/** The columns of a row that differ, before and after. */
function differing({ before, after }: Schemas['ShapeDifference']): string {
  const was = new Map(before.map((c) => [c.column, c.value ?? null]));
  if (after.length === 0)
    return before
      .slice(0, 4)
      .map((c) => `${c.column}: ${c.value ?? 'null'}`)
      .join(' · ');
  const parts = after
    .filter((c) => !was.has(c.column) || was.get(c.column) !== (c.value ?? null))
    .slice(0, 4)
    .map((c) => {
      const now = `${c.value ?? 'null'}`;
      return was.has(c.column) ? `${c.column}: ${was.get(c.column) ?? 'null'} → ${now}` : `${c.column}: ${now}`;
    });
  return parts.join(' · ');
}
