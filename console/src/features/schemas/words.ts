import type { Schemas } from '../../api/client';
import type { Language, Rule, Schema } from './schemasQueries';

export const LANGUAGES: { value: Language; label: string }[] = [
  { value: 'avro', label: 'Avro' },
  { value: 'json_schema', label: 'JSON Schema' },
  { value: 'protobuf', label: 'Protocol Buffers' },
];

export function languageName(language: Language): string {
  return LANGUAGES.find((l) => l.value === language)?.label ?? language;
}

const PAST = { off: null, latest: 'the version before it', all: 'all earlier versions' } as const;

/** A rule's meaning in a sentence. */
export function ruleMeaning(rule: Rule): string {
  const reads = PAST[rule.reads_past ?? 'off'];
  const read = PAST[rule.past_reads ?? 'off'];
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
    ['reads past', rule.reads_past ?? 'off'],
    ['past reads', rule.past_reads ?? 'off'],
  ].filter(([, half]) => half !== 'off');
  return halves.length === 0 ? 'no rule' : halves.map(([name, half]) => `${name}: ${half}`).join(', ');
}

/** How a text names types of other schemas. */
export const REFERRED: Record<Language, string> = {
  avro: 'A type goes by its full name.',
  json_schema: '"$ref" takes the name of the schema.',
  protobuf: 'import takes the name of the schema.',
};

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
  json_schema: `{
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

export interface BreachGroup {
  half: string;
  versions: number[];
  misfits: Schemas['SchemaMisfit'][];
}

/** Breaches with the same findings as one: a rule that looks at all versions finds the same in most. */
export function grouped(breaches: Schemas['SchemaBreach'][]): BreachGroup[] {
  const groups: BreachGroup[] = [];
  for (const { half, version, misfits } of breaches) {
    const same = groups.find((g) => g.half === half && JSON.stringify(g.misfits) === JSON.stringify(misfits));
    if (same) same.versions.push(version);
    else groups.push({ half, versions: [version], misfits });
  }
  return groups;
}

/** Versions in a few words: "version 3", "versions 1 to 3 and 7". */
export function versionsSaid(versions: number[]): string {
  const runs: [number, number][] = [];
  for (const version of [...versions].sort((a, b) => a - b)) {
    const last = runs[runs.length - 1];
    if (last && version === last[1] + 1) last[1] = version;
    else runs.push([version, version]);
  }
  const said = runs.map(([a, b]) => (a === b ? String(a) : b === a + 1 ? `${a} and ${b}` : `${a} to ${b}`));
  return `${versions.length === 1 ? 'version' : 'versions'} ${said.join(', ')}`;
}

/** Whether nothing of it is known to be wrong: the schemas cannot be compared. */
export function isUnknown(misfits: Schemas['SchemaMisfit'][]): boolean {
  return misfits.length > 0 && misfits.every((m) => m.unknown);
}

export function breachTitle({ half, versions, misfits }: BreachGroup): string {
  const past = versionsSaid(versions);
  if (isUnknown(misfits)) {
    return half === 'reads_past'
      ? `Whether it can read what ${past} wrote cannot be judged`
      : `Whether ${past} can read what it writes cannot be judged`;
  }
  if (half === 'reads_past') return `It cannot read what ${past} wrote`;
  return `${past.charAt(0).toUpperCase()}${past.slice(1)} cannot read what it writes`;
}
