import { MultiSelect } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';

import { schemaNamesQuery } from '../../shared/schemaNamesQuery';
import { choicesOf, referencesOf } from './references';
import type { Language, Reference } from './schemasQueries';
import { REFERRED } from './words';

interface Props {
  language: Language;
  /** The schema itself, which does not refer to itself. */
  own: string;
  references: Reference[];
  onChange: (references: Reference[]) => void;
}

/** The versions of other schemas that a text names types of. */
export function References({ language, own, references, onChange }: Props) {
  const known = useQuery(schemaNamesQuery).data ?? [];
  const choices = choicesOf(known, language, own, references);
  if (choices.length === 0) return null;
  return (
    <section className="sheet" aria-label="Types of other schemas">
      <h2>Types of other schemas</h2>
      <div style={{ padding: 16 }}>
        <MultiSelect
          label="It names types of"
          description={`The version stays, whatever comes after it. ${REFERRED[language]}`}
          searchable
          limit={100}
          data={choices}
          value={references.map((r) => `${r.name}:${r.version}`)}
          onChange={(chosen) => onChange(referencesOf(chosen))}
        />
      </div>
    </section>
  );
}
