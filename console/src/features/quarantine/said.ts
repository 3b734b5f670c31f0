import { parseExact } from '../../shared/exact';

/** A finding in two parts: what was found, and what to do about it. */
export function parts(finding: string): { found: string; remedy: string | null } {
  // findings end with their remedy after the last colon that follows an error's code, or the last colon at all
  const code = /^(.*\([0-9A-Z]{5}\)): (.+)$/s.exec(finding);
  if (code?.[1] !== undefined && code[2] !== undefined) return { found: code[1], remedy: code[2] };
  return { found: finding, remedy: null };
}

/** Whether any of 24 hours has records, and how tall each is drawn, from 0 to 1. */
export function heights(byHour: readonly number[]): number[] {
  const most = Math.max(1, ...byHour);
  return byHour.map((n) => n / most);
}

/** Text of JSON, or why it is none. */
export function readJson(text: string): { value: unknown } | { fault: string } {
  try {
    return { value: parseExact(text) };
  } catch (error) {
    return { fault: error instanceof Error ? error.message : String(error) };
  }
}

/** Which top-level and row columns differ between a value and a mended one. */
export function changedFields(before: unknown, after: unknown, path = ''): string[] {
  if (JSON.stringify(before) === JSON.stringify(after)) return [];
  const both = [before, after].every((v) => typeof v === 'object' && v !== null && !Array.isArray(v));
  if (!both) return [path === '' ? 'the whole value' : path];
  const [from, to] = [before as Record<string, unknown>, after as Record<string, unknown>];
  return [...new Set([...Object.keys(from), ...Object.keys(to)])].flatMap((key) =>
    changedFields(from[key], to[key], path === '' ? key : `${path}.${key}`),
  );
}
