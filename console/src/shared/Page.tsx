import { useDocumentTitle } from '@mantine/hooks';
import type { ReactNode } from 'react';

/** A page's heading with its one main action at the right of it. */
export function Heading({ title, says, action }: { title: string; says?: ReactNode; action?: ReactNode }) {
  useDocumentTitle(`${title} · Gonvel`);
  return (
    <div className="heading">
      <div className="words">
        <h1>{title}</h1>
        {says && <p className="says">{says}</p>}
      </div>
      {action}
    </div>
  );
}

/** A number that can be read from two metres. */
export function Figure({ label, value, unit, tone }: { label: string; value: string; unit?: string; tone?: 'warn' }) {
  return (
    <div className="figure" data-tone={tone}>
      <div className="label">{label}</div>
      <div className="value">
        {value}
        {unit && <small>{unit}</small>}
      </div>
    </div>
  );
}
