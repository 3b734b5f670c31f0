/** A shape's steps and rules: what each says in words, blank ones, and how a list of them changes. */
import type { Schemas } from '../../api/client';

export type Shapes = Schemas['Shapes'];
export type ShapeStep = Schemas['ShapeStep'];
export type Word = ShapeStep['step'];
export type Of<W extends Word> = Extract<ShapeStep, { step: W }>;
export type Finding = Schemas['ShapeFinding'];

interface Described {
  word: Word;
  /** What a person looks for. */
  label: string;
  group: 'Columns' | 'Values' | 'Rows' | 'SQL';
}

export const STEPS: readonly Described[] = [
  { word: 'keep', label: 'Keep columns', group: 'Columns' },
  { word: 'drop', label: 'Drop columns', group: 'Columns' },
  { word: 'rename', label: 'Rename columns', group: 'Columns' },
  { word: 'reorder', label: 'Put columns first', group: 'Columns' },
  { word: 'compute', label: 'Add a computed column', group: 'Columns' },
  { word: 'split', label: 'Split a text into columns', group: 'Columns' },
  { word: 'unpack', label: 'Unpack nested values', group: 'Columns' },
  { word: 'origin', label: 'Add facts of the origin', group: 'Columns' },
  { word: 'lookup', label: 'Look columns up', group: 'Columns' },
  { word: 'mask', label: 'Hide values', group: 'Values' },
  { word: 'convert', label: 'Convert a type', group: 'Values' },
  { word: 'fill', label: 'Fill empties', group: 'Values' },
  { word: 'trim', label: 'Trim texts', group: 'Values' },
  { word: 'letters', label: 'Change letters', group: 'Values' },
  { word: 'substitute', label: 'Substitute characters', group: 'Values' },
  { word: 'filter', label: 'Filter rows', group: 'Rows' },
  { word: 'route', label: 'Route rows', group: 'Rows' },
  { word: 'drop_repeats', label: 'Drop repeats', group: 'Rows' },
  { word: 'sql', label: 'Free SQL', group: 'SQL' },
];

export function labelOf(word: Word): string {
  return STEPS.find((s) => s.word === word)?.label ?? word;
}

/** A step of a kind, with nothing said yet. */
export function blank(word: Word): ShapeStep {
  switch (word) {
    case 'keep':
    case 'drop':
    case 'reorder':
      return { step: word, columns: [] };
    case 'rename':
      return { step: word, columns: [] };
    case 'compute':
      return { step: word, column: '', value: '' };
    case 'convert':
      return { step: word, column: '', to: 'text' };
    case 'fill':
      return { step: word, column: '', value: '' };
    case 'mask':
      return { step: word, columns: [], how: 'hash' };
    case 'trim':
      return { step: word, columns: [], ends: 'both' };
    case 'letters':
      return { step: word, columns: [], to: 'lower' };
    case 'substitute':
      return { step: word, columns: [], which: 'control', with: ' ' };
    case 'split':
      return { step: word, column: '', by: ' ', into: [] };
    case 'unpack':
      return { step: word, column: '', fields: [] };
    case 'filter':
      return { step: word, only: '' };
    case 'route':
      return { step: word, ways: [{ when: '', to: '' }] };
    case 'origin':
      return { step: word, facts: [{ fact: 'committed_at', column: 'committed_at' }] };
    case 'lookup':
      return { step: word, topic: '', by: [], columns: [], miss: 'empty' };
    case 'drop_repeats':
      return { step: word, by: [] };
    case 'sql':
      return { step: word, select: 'SELECT *\nFROM input' };
  }
}

function list(names: readonly string[], none: string): string {
  if (names.length === 0) return none;
  if (names.length <= 4) return names.join(', ');
  return `${names.slice(0, 3).join(', ')} and ${names.length - 3} more`;
}

const HOW: Record<Of<'mask'>['how'], string> = {
  hide: 'hidden',
  partial: 'partly hidden',
  hash: 'as a keyed hash',
  token: 'as a token',
};

const CHARACTERS: Record<Of<'substitute'>['which'], string> = {
  control: 'control characters',
  not_latin1: 'characters outside ISO 8859-1',
  not_ascii: 'characters outside ASCII',
  these: 'characters',
};

/** What a step does, in a line. */
export function sentence(step: ShapeStep): string {
  switch (step.step) {
    case 'keep':
      return `Keep ${list(step.columns, 'no column yet')}`;
    case 'drop':
      return `Drop ${list(step.columns, 'no column yet')}`;
    case 'reorder':
      return `First ${list(step.columns, 'no column yet')}`;
    case 'rename':
      return `Rename ${list(
        step.columns.map((c) => `${c.column} to ${c.to}`),
        'no column yet',
      )}`;
    case 'compute':
      return `${step.column || '…'} = ${step.value || '…'}`;
    case 'convert':
      return `${step.column || '…'} as ${step.to}`;
    case 'fill':
      return `${step.column || '…'}, if empty: ${step.value || '…'}`;
    case 'mask':
      return `${list(step.columns, 'No column yet')} ${HOW[step.how]}`;
    case 'trim':
      return `Trim ${list(step.columns, 'no column yet')}`;
    case 'letters': {
      const how = { lower: 'small', upper: 'capital', initial: 'with capital initials' }[step.to];
      return `${list(step.columns, 'No column yet')} ${how}`;
    }
    case 'substitute': {
      const which = step.which === 'these' ? step.characters : CHARACTERS[step.which];
      return `${which} in ${list(step.columns, 'no column yet')}`;
    }
    case 'split':
      return `${step.column || '…'} into ${list(step.into, 'nothing yet')}`;
    case 'unpack':
      return `${list(
        step.fields.map((f) => f.column),
        'nothing yet',
      )} out of ${step.column || '…'}`;
    case 'filter':
      return `Only where ${step.only || '…'}`;
    case 'route':
      return list(
        step.ways.map((w) => (w.when ? `${w.to} where ${w.when}` : w.to || '…')),
        'nowhere yet',
      );
    case 'origin':
      return `${list(
        step.facts.map((f) => f.column || `${f.header ?? ''} (header)`),
        'no fact yet',
      )} of the origin`;
    case 'lookup':
      return `${list(
        step.columns.map((c) => c.column),
        'nothing yet',
      )} from ${step.table?.table || step.topic || '…'}${step.again ? ', again when it changes' : ''}`;
    case 'drop_repeats':
      return step.by && step.by.length > 0 ? `Rows that repeat ${list(step.by, '')}` : 'Rows that repeat themselves';
    case 'sql':
      return step.select.replace(/\s+/g, ' ');
  }
}

/** The kinds of connectors. */
export type Kind = 'source' | 'sink' | 'topics';

/** A row that a person makes, as the texts of its columns; null for SQL's null. */
export type MadeRow = Record<string, string | null>;

export const NOTHING: Shapes = {};

export function stepsOf(shape: Shapes, name: string): ShapeStep[] {
  return shape.steps?.[name] ?? [];
}

/** The shape with other steps for one table or topic; without any it stands there no more. */
export function withSteps(shape: Shapes, name: string, steps: ShapeStep[]): Shapes {
  const others = Object.entries(shape.steps ?? {}).filter(([key]) => key !== name);
  const all = Object.fromEntries(steps.length > 0 ? [...others, [name, steps] as const] : others);
  return tidy({ ...shape, steps: all });
}

export function withRules(shape: Shapes, rules: Schemas['TableRule'][]): Shapes {
  return tidy({ ...shape, rules });
}

function tidy({ rules, steps }: Shapes): Shapes {
  const out: Shapes = {};
  if (rules && rules.length > 0) out.rules = rules;
  if (steps && Object.keys(steps).length > 0) out.steps = steps;
  return out;
}

export function isNothing(shape: Shapes): boolean {
  return (shape.rules ?? []).length === 0 && Object.keys(shape.steps ?? {}).length === 0;
}

/** A list with one thing moved to another place. */
export function moved<T>(all: readonly T[], from: number, to: number): T[] {
  const out = [...all];
  const [one] = out.splice(from, 1);
  if (one === undefined || to < 0 || to > out.length) return [...all];
  out.splice(to, 0, one);
  return out;
}

export function replaced<T>(all: readonly T[], place: number, by: T): T[] {
  return all.map((one, n) => (n === place ? by : one));
}

export function removed<T>(all: readonly T[], place: number): T[] {
  return all.filter((_, n) => n !== place);
}

type Stage = Schemas['ShapeStage'];
type Columns = Schemas['ShapeColumn'][];

export interface Cell {
  column: string;
  type: string;
  key: boolean;
  /** The value, null for SQL's null. */
  value: string | null;
  /** What it was before the step, where that differs; undefined where it is the same. */
  was?: string | null | undefined;
  /** Whether the column was not there before. */
  isNew: boolean;
}

/** The rows as a step leaves them, each cell beside what it was before: columns of one name belong together. */
export function compared(
  before: { columns: Columns; rows: Schemas['ShapeRow'][] },
  after: { columns: Columns; rows: Schemas['ShapeRow'][] },
): Cell[][] {
  const place = new Map(before.columns.map((c, n) => [c.name, n]));
  return after.rows.map((row, number) =>
    after.columns.map((column, n) => {
      const value = row.cells[n] ?? null;
      const from = place.get(column.name);
      const cell: Cell = { column: column.name, type: column.type, key: column.key, value, isNew: from === undefined };
      if (from === undefined) return cell;
      const was = before.rows[number]?.cells[from] ?? null;
      return was === value ? cell : { ...cell, was };
    }),
  );
}

/** The columns that a step takes away. */
export function gone(before: Columns, after: Columns): string[] {
  const there = new Set(after.map((c) => c.name));
  return before.filter((c) => !there.has(c.name)).map((c) => c.name);
}

/** The rows before a step and after it: the stages of all steps up to there. */
export function around(tried: Schemas['TriedShape'], step: number | null): { before: View; after: View } {
  const first: View = { columns: tried.columns, rows: tried.rows };
  if (step === null) return { before: first, after: tried.stages.at(-1) ?? first };
  const upTo = (stage: Stage) => (stage.step ?? -1) < step;
  const before = tried.stages.filter(upTo).at(-1) ?? first;
  const after = tried.stages.filter((s) => (s.step ?? -1) <= step).at(-1) ?? first;
  return { before, after };
}

interface View {
  columns: Columns;
  rows: Schemas['ShapeRow'][];
}

/** The step at which a row leaves; null if it does not, or at a rule. */
export function leaves(tried: Schemas['TriedShape'], row: number): number | null {
  return tried.stages.find((stage) => stage.rows[row]?.there === false)?.step ?? null;
}

/** The rows that show most: those that were made, one that fails, one that goes no further, then others; so many, in their order. */
export function telling(tried: Schemas['TriedShape'], most: number, made = 0): number[] {
  const all = tried.rows.map((_, n) => n);
  const own = made === 0 ? [] : all.slice(-Math.min(made, most));
  const tone = (n: number) => fate(tried.outcomes[n]).tone;
  const first = [all.find((n) => tone(n) === 'fails'), all.find((n) => tone(n) === 'out')];
  const chosen = new Set(own);
  for (const n of first) if (n !== undefined && chosen.size < most) chosen.add(n);
  for (const n of [...all.filter((one) => tone(one) === 'fine'), ...all]) if (chosen.size < most) chosen.add(n);
  return [...chosen].sort((a, b) => a - b);
}

/** What became of a row, in words. */
export function fate(
  outcome: Schemas['ShapeOutcome'] | undefined,
  leftAt?: number | null,
): { words: string; tone: 'fine' | 'out' | 'fails' } {
  if (!outcome) return { words: '', tone: 'fine' };
  if (outcome.finding) return { words: outcome.finding, tone: 'fails' };
  if (outcome.becomes.length === 0) {
    const where = leftAt == null ? 'goes no further' : `goes no further than step ${leftAt + 1}`;
    return { words: `${outcome.kind}: ${where}`, tone: 'out' };
  }
  const becomes = outcome.becomes.join(' and ');
  const words = becomes === outcome.kind ? outcome.kind : `${outcome.kind} becomes ${becomes}`;
  return { words: outcome.to ? `${words} in ${outcome.to}` : words, tone: 'fine' };
}
