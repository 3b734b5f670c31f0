/** Spans of time and sizes as a number with its unit. */
export interface SpanUnit {
  value: string;
  label: string;
  size: number;
}

export const SPANS: SpanUnit[] = [
  { value: 's', label: 'seconds', size: 1_000 },
  { value: 'min', label: 'minutes', size: 60_000 },
  { value: 'h', label: 'hours', size: 3_600_000 },
  { value: 'd', label: 'days', size: 86_400_000 },
];

export const SIZES: SpanUnit[] = [
  { value: 'MB', label: 'MB', size: 1_000_000 },
  { value: 'GB', label: 'GB', size: 1_000_000_000 },
  { value: 'TB', label: 'TB', size: 1_000_000_000_000 },
];

/** The largest unit in which a value is a whole number. */
export function splitSpan(value: number | null, units: SpanUnit[]): { number: number | null; unit: string } {
  const last = units[units.length - 1]?.value ?? '';
  if (value === null) return { number: null, unit: last };
  const whole = [...units].reverse().find((u) => value % u.size === 0) ?? units[0];
  return { number: value / (whole?.size ?? 1), unit: whole?.value ?? last };
}

export function joinSpan(number: number | string, unit: string, units: SpanUnit[]): number | null {
  if (number === '') return null;
  return Math.round(Number(number) * (units.find((u) => u.value === unit)?.size ?? 1));
}
