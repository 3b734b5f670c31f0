import type { Dispatch, ReactNode } from 'react';

import type { Schemas } from '../../api/client';
import { Checks } from '../../shared/Checks';
import type { Action } from './builder';

export type Change = Dispatch<Action>;
export type Check = Schemas['Check'];

/** What the preflight found missing, beside what it belongs to. */
export function Failed({ checks }: { checks: Check[] }) {
  if (checks.length === 0) return null;
  return (
    <div className="note" role="alert">
      <Checks checks={checks} />
    </div>
  );
}

export function Stage({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="sheet stage" aria-label={title}>
      <h2>{title}</h2>
      <div>{children}</div>
    </section>
  );
}
