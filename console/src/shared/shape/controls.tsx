import { ActionIcon, Button, MultiSelect, NumberInput, Select } from '@mantine/core';
import type { ReactNode } from 'react';

import { removed, replaced } from './shape';

interface ChosenProps {
  label: string;
  names: readonly string[];
  value: string[];
  onChange: (names: string[]) => void;
  placeholder?: string;
}

/** Some columns. */
export function Chosen({ label, names, value, onChange, placeholder }: ChosenProps) {
  return (
    <MultiSelect
      label={label}
      searchable
      hidePickedOptions
      placeholder={value.length === 0 ? (placeholder ?? 'choose columns') : ''}
      data={[...new Set([...names, ...value])]}
      value={value}
      onChange={onChange}
    />
  );
}

/** One column. */
export function Column({
  label,
  names,
  value,
  onChange,
}: {
  label: string;
  names: readonly string[];
  value: string;
  onChange: (name: string) => void;
}) {
  return (
    <Select
      label={label}
      searchable
      data={[...new Set([...names, ...(value ? [value] : [])])]}
      value={value || null}
      onChange={(name) => onChange(name ?? '')}
    />
  );
}

/** How many characters. */
export function Ends({ label, value, onChange }: { label: string; value: number; onChange: (value: number) => void }) {
  return (
    <NumberInput
      label={label}
      min={0}
      max={100}
      allowDecimal={false}
      value={value}
      onChange={(v) => onChange(Number(v) || 0)}
    />
  );
}

interface RowsProps<T> {
  /** What each of them is. */
  what: string;
  rows: readonly T[];
  blank: T;
  onChange: (rows: T[]) => void;
  children: (row: T, set: (row: T) => void, place: number) => ReactNode;
}

/** Several of one kind, each on a line of its own. */
export function Rows<T>({ what, rows, blank, onChange, children }: RowsProps<T>) {
  return (
    <div className="steprows">
      {rows.map((row, n) => (
        <div className="steprow" key={n}>
          {children(row, (next) => onChange(replaced(rows, n, next)), n)}
          <ActionIcon
            variant="subtle"
            aria-label={`Take ${what} ${n + 1} out`}
            onClick={() => onChange(removed(rows, n))}
          >
            ×
          </ActionIcon>
        </div>
      ))}
      <Button size="compact-xs" variant="default" onClick={() => onChange([...rows, blank])}>
        Add a {what}
      </Button>
    </div>
  );
}
