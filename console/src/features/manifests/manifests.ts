/** Manifests, what they would change, and how that is told. */
import type { Schemas } from '../../api/client';

export type Plan = Schemas['InstallationPlan'] & { tag: string };
export type Step = Schemas['PlannedStep'];
export type File = Schemas['ManifestFile'];
export type Secret = Schemas['NeededSecret'];
export type Outcome = Schemas['StepOutcome'];
export type Secrets = Record<string, Record<string, string>>;

/** What is typed or pasted, among files that were added. */
export const TYPED = 'typed text';

export const KINDS = ['connection', 'function', 'schema', 'topic', 'connector', 'reader'] as const;

/** Where a secret comes from, as it stands in the text. */
export function source(secret: Secret): string {
  const from = secret.from as { env?: string; file?: string };
  if (from.env) return `By command it comes from the environment's ${from.env}.`;
  if (from.file) return `By command it comes from the file ${from.file}.`;
  return 'By command it is asked for.';
}

/** The secrets that a person is to give here: those that cannot be done without. */
export function toAsk(plan: Plan | undefined, given: Secrets): Secret[] {
  return (plan?.secrets ?? []).filter((s) => s.needed || given[s.connection]?.[s.field] !== undefined);
}

export function withSecret(given: Secrets, secret: Secret, text: string): Secrets {
  const fields = { ...given[secret.connection] };
  delete fields[secret.field];
  if (text !== '') fields[secret.field] = text;
  return { ...given, [secret.connection]: fields };
}

/** Secrets without connections that have none. */
export function sent(given: Secrets): Secrets {
  return Object.fromEntries(Object.entries(given).filter(([, fields]) => Object.keys(fields).length > 0));
}

export function counted(steps: Step[]): { make: number; change: number; delete: number } {
  const of = (deed: Step['deed']) => steps.filter((step) => step.deed === deed).length;
  return { make: of('make'), change: of('change'), delete: of('delete') };
}

/** A change of one field, in words. */
export function changed({ field, from, to }: Schemas['FieldChange']): string {
  if (from == null && to == null) return `${field}: another one`;
  if (from == null) return `${field}: ${to}`;
  if (to == null) return `${field}: no more ${from}`;
  return `${field}: ${from} → ${to}`;
}
