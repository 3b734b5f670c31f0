import { SegmentedControl } from '@mantine/core';

interface ChoiceProps<T extends string> {
  label: string;
  value: T;
  onChange: (value: T) => void;
  data: { value: T; label: string }[];
  /** Within a step: no wider than it must be. */
  small?: boolean;
}

/** One of a few, all in sight. */
export function Choice<T extends string>({ label, value, onChange, data, small }: ChoiceProps<T>) {
  return (
    <div className="choice">
      <div className="choice-label">{label}</div>
      <SegmentedControl
        {...(small ? { size: 'xs' } : { fullWidth: true })}
        aria-label={label}
        value={value}
        onChange={(v) => onChange(v as T)}
        data={data}
      />
    </div>
  );
}
