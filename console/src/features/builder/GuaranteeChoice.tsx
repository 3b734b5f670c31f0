import { Select } from '@mantine/core';

import type { Schemas } from '../../api/client';
import type { Draft } from './builder';

type Guarantee = Schemas['Guarantee'];

const GIVES: Record<Guarantee, { label: string; says: string }> = {
  exactly_once: {
    label: 'Exactly once',
    says: 'Rows commit together with the position, in one transaction of the target. Gonvel keeps a small table of its own there.',
  },
  at_least_once: {
    label: 'At least once',
    says: 'Gonvel keeps the position, and moves it once the rows are there: a crash in between brings some again. Nothing of Gonvel’s own stands in the target.',
  },
  at_most_once: {
    label: 'At most once',
    says: 'Gonvel keeps the position, and moves it before the rows are there: a crash in between loses some, and none comes twice.',
  },
};

const OF_OTHERS = {
  source: 'The source’s position commits in one transaction with the records it produced.',
  topics: 'Records and the positions they bring commit in one transaction of the topic log.',
};

interface ChoiceProps {
  value: Guarantee;
  /** Whether the target can hold the position: exactly once is nothing else. */
  holds: boolean;
  onChange: (value: Guarantee) => void;
}

/** How often a record reaches the target whatever fails. */
export function GuaranteeChoice({ value, holds, onChange }: ChoiceProps) {
  const offered = (Object.keys(GIVES) as Guarantee[]).filter((key) => holds || key !== 'exactly_once' || key === value);
  return (
    <Select
      mt="sm"
      label="Each record arrives"
      description={GIVES[value].says}
      data={offered.map((key) => ({ value: key, label: GIVES[key].label }))}
      value={value}
      onChange={(key) => key && onChange(key)}
    />
  );
}

/** What is guaranteed, and why. */
export function Guaranteed({ draft }: { draft: Draft }) {
  const { label, says } =
    draft.kind === 'sink'
      ? GIVES[draft.writes.guarantee ?? 'exactly_once']
      : { label: GIVES.exactly_once.label, says: OF_OTHERS[draft.kind] };
  return (
    <p>
      <strong>{label}.</strong> {says}
    </p>
  );
}
