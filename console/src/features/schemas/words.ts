import type { Language, Rule, Schema } from './schemasQueries';

export const LANGUAGES: { value: Language; label: string }[] = [
  { value: 'avro', label: 'Avro' },
  { value: 'json-schema', label: 'JSON Schema' },
  { value: 'protobuf', label: 'Protocol Buffers' },
];

export function languageName(language: Language): string {
  return LANGUAGES.find((l) => l.value === language)?.label ?? language;
}

const PAST = { off: null, latest: 'the version before it', all: 'all earlier versions' } as const;

/** A rule's meaning in a sentence. */
export function ruleMeaning(rule: Rule): string {
  const reads = PAST[rule['reads-past'] ?? 'off'];
  const read = PAST[rule['past-reads'] ?? 'off'];
  if (reads === null && read === null) return 'Any text is taken as a new version: nothing is checked.';
  if (read === null)
    return `A new version must read what was written with ${reads}. Change readers first, then writers.`;
  if (reads === null)
    return `What a new version writes must be readable by ${read}. Change writers first, then readers.`;
  const both =
    reads === read
      ? `A new version and ${reads} must read each other.`
      : `A new version must read what was written with ${reads}, and ${read} must be able to read it.`;
  return `${both} Readers and writers may change in any order.`;
}

/** A rule in a few words, for a list. */
export function ruleShort(rule: Rule): string {
  const halves = [
    ['reads past', rule['reads-past'] ?? 'off'],
    ['past reads', rule['past-reads'] ?? 'off'],
  ].filter(([, half]) => half !== 'off');
  return halves.length === 0 ? 'no rule' : halves.map(([name, half]) => `${name}: ${half}`).join(', ');
}

/** What a new schema of a language begins with. */
export const BEGINNINGS: Record<Language, string> = {
  avro: `{
  "type": "record",
  "name": "Reading",
  "namespace": "averling.coldstore",
  "fields": [
    { "name": "room", "type": "int" },
    { "name": "celsius", "type": ["null", "double"], "default": null }
  ]
}
`,
  'json-schema': `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "type": "object",
  "properties": {
    "room": { "type": "integer" },
    "celsius": { "type": "number" }
  },
  "required": ["room"]
}
`,
  protobuf: `syntax = "proto3";
package averling.coldstore;

message Reading {
  int32 room = 1;
  optional double celsius = 2;
}
`,
};

/** What a connector wrote stands in one line; people read it in many. */
export function pretty(schema: Schema, text: string): string {
  if (schema.language === 'protobuf' || text.trim().includes('\n')) return text;
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
