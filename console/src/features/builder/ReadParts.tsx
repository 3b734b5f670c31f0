import type { ReactNode } from 'react';

import { EventRowsLine, TypesLine } from './EventRowsLine';
import type { EventRows } from './eventRows';
import type { Change } from './Stage';
import { ofTopic, typesOf } from './types';

interface Props {
  topic: string;
  /** All that is read, by name. */
  names: string[];
  rows: Record<string, EventRows>;
  change: Change;
  onColumns: (name: string) => void;
  /** Where the rows of what is read go, and what else is said of it. */
  children: (name: string) => { to: ReactNode; more?: ReactNode };
}

/** What is read of a chosen topic: all of it, or events of some types, each with where they go. */
export function ReadParts({ topic, names, rows, change, onColumns, children }: Props) {
  const parts = ofTopic(names, topic);
  return (
    <div className="under">
      {parts.map((name) => {
        const { to, more } = children(name);
        return (
          <div className="readpart" key={name}>
            {typesOf(name) && <div className="mono types">{typesOf(name).slice(1, -1)}</div>}
            {to}
            <EventRowsLine name={name} all={rows} change={change} onColumns={onColumns} />
            {more}
          </div>
        );
      })}
      <TypesLine topic={topic} names={parts} all={rows} change={change} />
    </div>
  );
}
