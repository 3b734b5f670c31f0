import { TextInput } from '@mantine/core';
import { useState } from 'react';

import type { Schemas } from '../../api/client';

/** The functions there are: a signature, a line and an example each. */
export function Functions({ functions }: { functions: readonly Schemas['ShapeFunction'][] }) {
  const [wanted, setWanted] = useState('');
  const fits = (f: Schemas['ShapeFunction']) =>
    `${f.name} ${f.group} ${f.line}`.toLowerCase().includes(wanted.trim().toLowerCase());
  const found = functions.filter(fits);
  const groups = [...new Set(found.map((f) => f.group))];
  return (
    <details className="further functions">
      <summary>{functions.length} functions</summary>
      <TextInput
        size="xs"
        aria-label="Find a function"
        placeholder="Find by name or what it does"
        value={wanted}
        onChange={(e) => setWanted(e.currentTarget.value)}
      />
      {found.length === 0 && <p className="quiet">None is called so or does that.</p>}
      <div className="all" tabIndex={0} role="region" aria-label="Functions">
        {groups.map((group) => (
          <section key={group} aria-label={group}>
            <h3>{group}</h3>
            <dl>
              {found
                .filter((f) => f.group === group)
                .map((f) => (
                  <div key={f.name}>
                    <dt className="mono" title={f.signatures.join('\n')}>
                      {f.name}
                      <span className="quiet">{f.signatures[0]}</span>
                    </dt>
                    <dd>
                      {f.line}{' '}
                      <span className="mono quiet">
                        {f.example} = {f.result}
                      </span>
                    </dd>
                  </div>
                ))}
            </dl>
          </section>
        ))}
      </div>
    </details>
  );
}
