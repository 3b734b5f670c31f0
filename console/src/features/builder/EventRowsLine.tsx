import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { triedRowsQuery } from './builderQueries';
import { summary, type EventRows } from './eventRows';
import type { Change } from './Stage';
import { topicOf } from './types';
import { TypesDialog } from './TypesDialog';

/** Records that decide whether a topic holds events, and which columns those have. */
const LOOKED_AT = 1_000;

interface Props {
  /** What is read: a topic, or events of some types of it. */
  name: string;
  /** How what is read becomes rows, by its name. */
  all: Record<string, EventRows>;
  change: Change;
  onColumns: (name: string) => void;
}

/** How a chosen topic's records become rows, where they are events: at first by the columns that its newest records have. */
export function EventRowsLine({ name, all, change, onColumns }: Props) {
  const rows = all[name];
  const tried = useQuery({ ...triedRowsQuery(topicOf(name), { records: LOOKED_AT }), enabled: rows === undefined });
  const proposed = tried.data && !tried.data.changes && tried.data.records > 0 ? tried.data.rows : undefined;
  useEffect(() => {
    if (rows === undefined && proposed) change({ type: 'rows', topic: name, rows: proposed });
  }, [rows, proposed, name, change]);
  if (!rows) return null;
  return (
    <div className="eventline">
      <span>
        Events: <span className="quiet">{summary(rows)}</span>
      </span>
      <Button size="compact-xs" variant="default" aria-label={`Columns of ${name}`} onClick={() => onColumns(name)}>
        Columns
      </Button>
    </div>
  );
}

/** Which types of a topic's events are read, where they are events. */
export function TypesLine({
  topic,
  names,
  all,
  change,
}: { topic: string; names: string[] } & Pick<Props, 'all' | 'change'>) {
  const [open, setOpen] = useState(false);
  const rows = Object.fromEntries(names.flatMap((name) => (all[name] ? [[name, all[name]]] : [])));
  if (Object.keys(rows).length === 0) return null;
  return (
    <div className="eventline">
      <span className="quiet">{names.length === 1 && names[0] === topic ? 'All types as one' : 'By type'}</span>
      <Button size="compact-xs" variant="default" aria-label={`Types in ${topic}`} onClick={() => setOpen(true)}>
        Types
      </Button>
      {open && <TypesDialog topic={topic} rows={rows} change={change} onClose={() => setOpen(false)} />}
    </div>
  );
}
