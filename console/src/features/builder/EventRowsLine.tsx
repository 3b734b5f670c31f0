import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect } from 'react';

import { triedRowsQuery } from './builderQueries';
import { summary, type EventRows } from './eventRows';
import type { Change } from './Stage';

/** Records that decide whether a topic holds events, and which columns those have. */
const LOOKED_AT = 1_000;

interface Props {
  topic: string;
  rows: EventRows | undefined;
  change: Change;
  onColumns: (topic: string) => void;
}

/** How a chosen topic's records become rows, where they are events: at first by the columns that its newest records have. */
export function EventRowsLine({ topic, rows, change, onColumns }: Props) {
  const tried = useQuery({ ...triedRowsQuery(topic, { records: LOOKED_AT }), enabled: rows === undefined });
  const proposed = tried.data && !tried.data.changes && tried.data.records > 0 ? tried.data.rows : undefined;
  useEffect(() => {
    if (rows === undefined && proposed) change({ type: 'rows', topic, rows: proposed });
  }, [rows, proposed, topic, change]);
  if (!rows) return null;
  return (
    <div className="under eventline">
      <span>
        Events: <span className="quiet">{summary(rows)}</span>
      </span>
      <Button size="compact-xs" variant="default" aria-label={`Columns of ${topic}`} onClick={() => onColumns(topic)}>
        Columns
      </Button>
    </div>
  );
}
