import { Checkbox, Select } from '@mantine/core';

import type { Schemas } from '../../api/client';
import { useKindOf } from '../../shared/connections/kinds';
import type { SinkDraft } from './builder';
import { Choice } from '../../shared/Choice';
import { GuaranteeChoice } from './GuaranteeChoice';
import { Stage, type Change } from './Stage';

type Writes = Schemas['Writes'];

const ROWS: { value: NonNullable<Writes['rows']>; label: string; says: string }[] = [
  { value: 'current', label: 'Rows as they are now', says: 'Each key once, as in the source.' },
  { value: 'appended', label: 'One more row for each written row', says: 'Nothing is changed or removed; no key.' },
  {
    value: 'changes',
    label: 'Every change as a row',
    says: 'Kind, time, position, the row before and after, as JSON.',
  },
  { value: 'history', label: 'Row history', says: 'Every state of a row, with the time from and to which it was.' },
];

/** What becomes of a deleted row, in the words of each way of writing. */
const DELETED: Record<'current' | 'changes' | 'history', { value: NonNullable<Writes['deletes']>; label: string }[]> = {
  current: [
    { value: 'applied', label: 'Goes' },
    { value: 'marked', label: 'Is marked' },
    { value: 'ignored', label: 'Stays' },
  ],
  changes: [
    { value: 'applied', label: 'Is a change too' },
    { value: 'ignored', label: 'Is left out' },
  ],
  history: [
    { value: 'applied', label: 'Ends its state' },
    { value: 'ignored', label: 'Stays' },
  ],
};

const COLUMNS: { value: NonNullable<Writes['columns']>; label: string }[] = [
  { value: 'ask', label: 'Leave the table as it is, and show what is needed' },
  { value: 'add', label: 'Add new columns, show the rest' },
  { value: 'widen', label: 'Add new columns and widen types' },
];

/** What the target's tables hold, and what becomes of deletes and new columns. */
export function WritesStage({ draft, change }: { draft: SinkDraft; change: Change }) {
  const { rows, deletes, columns, whole_transactions: whole, guarantee } = draft.writes;
  const set = (some: Partial<Writes>) => change({ type: 'writes', set: some });
  const chosen = ROWS.find((r) => r.value === rows);
  const abilities = useKindOf(draft.system?.id)?.sink;
  const declared = <T extends string>(known: readonly T[] | undefined, now: T | undefined) => {
    // what was chosen before stays to be seen, and is refused by the preflight
    return ({ value }: { value: T }) => known === undefined || known.includes(value) || value === now;
  };
  return (
    <Stage title="As what">
      <Select
        label="The tables hold"
        description={chosen?.says}
        data={ROWS.filter(declared(abilities?.rows, rows))}
        value={rows}
        onChange={(value) => set({ rows: ROWS.find((r) => r.value === value)?.value })}
      />
      {rows !== 'appended' && (
        <Choice
          label="A row deleted in the source"
          value={deletes ?? 'applied'}
          onChange={(value) => set({ deletes: value })}
          data={DELETED[rows ?? 'current'].filter(declared(abilities?.deletes, deletes))}
        />
      )}
      <Select
        mt="sm"
        label="When columns change in the source"
        data={COLUMNS.filter(declared(abilities?.columns, columns))}
        value={columns}
        onChange={(value) => set({ columns: COLUMNS.find((c) => c.value === value)?.value })}
      />
      {(abilities?.whole_transactions ?? true) && (
        <Checkbox
          mt="sm"
          label="Keep the source’s transactions whole"
          description="No one sees a part of one, across all these tables; it costs some speed"
          checked={whole}
          onChange={(e) => set({ whole_transactions: e.currentTarget.checked })}
        />
      )}
      <GuaranteeChoice
        value={guarantee ?? 'exactly_once'}
        holds={abilities?.holds ?? true}
        onChange={(value) => set({ guarantee: value })}
      />
    </Stage>
  );
}
