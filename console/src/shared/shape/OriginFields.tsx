import { Select, TextInput } from '@mantine/core';

import type { Schemas } from '../../api/client';
import { Rows } from './controls';
import type { Kind, Of, ShapeStep } from './shape';

const FACTS = [
  { value: 'kind', label: 'what happened' },
  { value: 'committed_at', label: 'when it was committed' },
  { value: 'position', label: 'the position in the log' },
  { value: 'transaction', label: 'the transaction' },
  { value: 'sequence', label: 'the number in its transaction' },
  { value: 'system', label: 'the system' },
  { value: 'schema', label: 'the schema' },
  { value: 'table', label: 'the table' },
];

interface Props {
  step: Of<'origin'>;
  onChange: (step: ShapeStep) => void;
  kind: Kind;
}

/** Which facts become columns, and which headers of the record. */
export function OriginFields({ step, onChange, kind }: Props) {
  return (
    <Rows
      what="fact"
      rows={step.facts}
      blank={{ fact: 'kind' as Schemas['Fact'], column: 'kind' }}
      onChange={(facts) => onChange({ ...step, facts })}
    >
      {(fact, set) => {
        const asHeader = Boolean(fact.header);
        const name = (asHeader ? fact.header : fact.column) ?? '';
        const named = (header: boolean, to: string) =>
          set(header ? { fact: fact.fact, header: to } : { fact: fact.fact, column: to });
        return (
          <>
            <Select
              label="Fact"
              data={FACTS}
              value={fact.fact}
              onChange={(to) => set({ ...fact, fact: (to ?? 'kind') as Schemas['Fact'] })}
            />
            {(kind !== 'sink' || asHeader) && (
              <Select
                label="becomes a"
                data={['column', 'header']}
                value={asHeader ? 'header' : 'column'}
                onChange={(to) => named(to === 'header', name)}
              />
            )}
            <TextInput
              label="called"
              value={name}
              onChange={(e) => named(asHeader && e.currentTarget.value !== '', e.currentTarget.value)}
            />
          </>
        );
      }}
    </Rows>
  );
}
