import type { Language, Reference, Summary } from './schemasQueries';

/** What can be referred to: the latest version of each schema of the language, and what is referred to already. */
export function choicesOf(known: Summary[], language: Language, own: string, references: Reference[]): string[] {
  const latest = known
    .filter((s) => s.language === language && s.version != null && s.name !== own)
    .map((s) => `${s.name}:${s.version}`);
  return [...new Set([...references.map((r) => `${r.name}:${r.version}`), ...latest])];
}

/** Of two versions of one schema the one that was chosen last counts. */
export function referencesOf(chosen: string[]): Reference[] {
  const byName = new Map<string, number>();
  for (const choice of chosen) {
    const at = choice.lastIndexOf(':');
    byName.delete(choice.slice(0, at));
    byName.set(choice.slice(0, at), Number(choice.slice(at + 1)));
  }
  return [...byName].map(([name, version]) => ({ name, version }));
}
