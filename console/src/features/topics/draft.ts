import type { Schemas } from '../../api/client';
import { sample } from './sample';

/** A record under construction, as text. */
export interface Draft {
  key: string;
  /** JSON. */
  value: string;
  /** One on each line, as `name: value`. */
  headers: string;
  /** Empty for the key's. */
  partition: string;
}

const pretty = (value: unknown) => JSON.stringify(value, null, 2);

/** A record to begin with: by a schema, or an empty object. */
export function sampleDraft(value?: unknown, key?: unknown): Draft {
  return {
    key: key === undefined ? '' : JSON.stringify(sample(key)),
    value: value === undefined ? '{}' : pretty(sample(value)),
    headers: '',
    partition: '',
  };
}

/** A record like a former one. */
export function draftOf(record: Schemas['Record']): Draft {
  const { key } = record as { key: unknown };
  return {
    key: key === null || key === undefined ? '' : typeof key === 'string' ? key : JSON.stringify(key),
    value: pretty(record.value ?? null),
    headers: record.headers.map((h) => `${h.name}: ${h.value}`).join('\n'),
    partition: '',
  };
}

/** The JSON of a request. The value stays the text that was typed: figures are not read and written again. */
export function recordText(draft: Draft, latest: boolean): string {
  const headers = draft.headers
    .split('\n')
    .filter((line) => line.trim() !== '')
    .map((line) => {
      const at = line.indexOf(':');
      return at < 0
        ? { name: line.trim(), value: '' }
        : { name: line.slice(0, at).trim(), value: line.slice(at + 1).trim() };
    });
  const parts = [`"value": ${draft.value.trim() === '' ? 'null' : draft.value}`];
  if (draft.key !== '') parts.push(`"key": ${latest && isJson(draft.key) ? draft.key : JSON.stringify(draft.key)}`);
  if (headers.length > 0) parts.push(`"headers": ${JSON.stringify(headers)}`);
  if (draft.partition !== '') parts.push(`"partition": ${draft.partition}`);
  return `{${parts.join(', ')}}`;
}

function isJson(text: string): boolean {
  try {
    JSON.parse(text);
    return true;
  } catch {
    return false;
  }
}
