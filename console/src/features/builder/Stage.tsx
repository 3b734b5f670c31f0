import type { Dispatch, ReactNode } from 'react';

import type { Action } from './builder';

export type Change = Dispatch<Action>;

export function Stage({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="sheet stage" aria-label={title}>
      <h2>{title}</h2>
      <div>{children}</div>
    </section>
  );
}
