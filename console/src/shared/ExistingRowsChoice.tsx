import { Radio, Stack } from '@mantine/core';

import type { Schemas } from '../api/client';
import { keyOf } from './tables';

export type ExistingRows = Schemas['ExistingRows'];

const OF: Record<'source' | 'sink', Record<ExistingRows, string>> = {
  source: {
    keep: 'The rows that are loaded are written over them by key. Those that are gone in the source stay for ever.',
    compare: 'They stay until the load is done. Then those that are not in the source are removed.',
    empty: 'A truncate goes first: whoever reads the topics empties its tables, and has no rows until they are loaded.',
  },
  sink: {
    keep: 'The rows that come are written over them by key. Those that the topics do not know stay for ever.',
    compare: 'Those whose key no record has are removed before the first delivery.',
    empty: 'All of them are removed before the first delivery.',
  },
};

const LABELS: Record<ExistingRows, string> = {
  compare: 'Remove what is gone',
  empty: 'Begin empty',
  keep: 'Keep all',
};

interface Props {
  kind: 'source' | 'sink';
  value: ExistingRows | null;
  onChange: (value: ExistingRows) => void;
  /** Those that cannot be, each with the reason. */
  not?: Partial<Record<ExistingRows, string>>;
}

/** What becomes of rows that are there already. */
export function ExistingRowsChoice({ kind, value, onChange, not = {} }: Props) {
  return (
    <Radio.Group
      mt="sm"
      label="Rows that are there already"
      value={value}
      onChange={(chosen) => onChange(chosen as ExistingRows)}
    >
      <Stack gap={8} mt={6}>
        {(Object.keys(LABELS) as ExistingRows[]).map((key) => (
          <Radio
            key={key}
            value={key}
            label={LABELS[key]}
            description={not[key] ?? OF[kind][key]}
            disabled={not[key] !== undefined}
          />
        ))}
      </Stack>
    </Radio.Group>
  );
}

/** What a connector cannot do with the rows that are there: a source for one of its tables, or for all. */
export function cannotLoad(definition: Schemas['Definition'], table?: string): Partial<Record<ExistingRows, string>> {
  if (definition.kind === 'topics') return {};
  if (definition.kind === 'sink') {
    const { rows = 'current', deletes = 'applied' } = definition.writes ?? {};
    const byKey = rows === 'current' && deletes === 'applied';
    return byKey ? {} : { compare: 'The tables hold more than current rows, or keep deleted ones.' };
  }
  const meant = (definition.tables ?? []).filter((t) => table === undefined || keyOf(t) === table);
  return {
    ...(definition.values?.form === 'row' && { empty: 'Values in row form do not tell that a table is emptied.' }),
    ...(meant.some((t) => t.load_where) && {
      compare: 'Only a part of the rows is loaded, so what is gone cannot be told from what is left out.',
    }),
  };
}
