import { Group, NumberInput, Select } from '@mantine/core';
import { useState } from 'react';

import { joinSpan, SPANS, splitSpan, type SpanUnit } from './spans';

interface Props {
  label: string;
  description: string;
  /** Milliseconds or bytes; null for no limit. */
  value: number | null;
  units?: SpanUnit[];
  error?: string;
  required?: boolean;
  onChange: (value: number | null) => void;
}

/** A span of time or a size: a number with its unit; empty means no limit. */
export function Span({ label, description, value, units = SPANS, error, required, onChange }: Props) {
  const [unit, setUnit] = useState(() => splitSpan(value, units).unit);
  const shown = value === null ? '' : value / (units.find((u) => u.value === unit)?.size ?? 1);
  return (
    <div>
      <Group gap={6} align="flex-end" wrap="nowrap">
        <NumberInput
          label={label}
          w={150}
          min={0}
          hideControls
          placeholder={required ? '' : 'no limit'}
          value={shown}
          error={error !== undefined}
          onChange={(number) => onChange(joinSpan(number, unit, units))}
        />
        <Select
          aria-label={`${label}: unit`}
          w={110}
          data={units.map((u) => ({ value: u.value, label: u.label }))}
          value={unit}
          onChange={(next) => {
            if (next === null) return;
            setUnit(next);
            if (value !== null) onChange(joinSpan(shown, next, units));
          }}
        />
      </Group>
      <div className={error ? 'fault' : 'quiet'} style={{ fontSize: '0.84rem', marginTop: 3 }}>
        {error ?? description}
      </div>
    </div>
  );
}
