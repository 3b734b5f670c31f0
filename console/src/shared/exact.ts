/** JSON in which a number that the browser's own numbers cannot hold keeps its digits, where the browser can do so. */
interface Source {
  source?: string;
}

/** A number as it was written; it is written again in the same way. */
export interface ExactNumber {
  rawJSON: string;
}

const json = JSON as typeof JSON & { rawJSON?: (text: string) => ExactNumber };

export function isExact(value: unknown): value is ExactNumber {
  return typeof value === 'object' && value !== null && 'rawJSON' in value && Object.getPrototypeOf(value) === null;
}

/** Whether a number is another one once the browser has read it. */
function loses(value: number, source: string): boolean {
  const digits = source
    .replace(/[eE].*$/, '')
    .replace(/[^0-9]/g, '')
    .replace(/^0+/, '').length;
  return digits > 15 && String(value) !== source;
}

export function parseExact(text: string): unknown {
  const { rawJSON } = json;
  if (rawJSON === undefined) return JSON.parse(text);
  const revive = (_: string, value: unknown, context?: Source) =>
    typeof value === 'number' && context?.source !== undefined && loses(value, context.source)
      ? rawJSON(context.source)
      : value;
  return JSON.parse(text, revive);
}
