import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { count, span } from '../../shared/format';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { NewReader } from '../../shared/readers/NewReader';
import { readersQuery } from '../../shared/readers/readersQueries';
import { ReadersTable } from '../../shared/readers/ReadersTable';
import { SoonForgottenNote } from '../../shared/SoonForgotten';

/** Who reads topics under a name of their own, and how far behind they are. */
export function ReadersPage() {
  const readers = useQuery({ ...readersQuery, ...useKeptCurrent('reader') });
  const [making, setMaking] = useState(false);
  const [filter, setFilter] = useFilter();
  const all = readers.data ?? [];
  const fitting = all.filter((r) => fits(filter, r.name, ...r.topics));
  const behind = Math.max(0, ...all.map((r) => r.lag_ms ?? 0));
  return (
    <div className="page">
      <Heading
        title="Readers"
        says="Applications that read topics under a name, and continue from where they committed."
        action={<Button onClick={() => setMaking(true)}>Make a reader</Button>}
      />
      <ProblemNote problem={readers.data ? null : problemOf(readers.error)} />
      <SoonForgottenNote of={(soon) => soon.connector == null} />
      {readers.data?.length === 0 && (
        <Blank
          title="No reader yet"
          action={
            <Button variant="default" onClick={() => setMaking(true)}>
              Make one
            </Button>
          }
        >
          A reader has a position in each partition. Several members may share one reader’s partitions; what they
          committed is where they go on.
        </Blank>
      )}
      {all.length > 0 && (
        <>
          <div className="figures">
            <Figure label="Readers" value={count(all.length)} />
            <Figure label="Not read yet" value={count(all.reduce((sum, r) => sum + r.lag_records, 0))} unit="records" />
            <Figure label="Furthest behind" value={behind === 0 ? 'nothing' : span(behind)} />
          </div>
          <div className="sheet">
            <div className="tools">
              <FilterInput label="Reader or topic" value={filter} onChange={setFilter} />
              <span className="quiet">
                {count(fitting.length)} of {count(all.length)}
              </span>
            </div>
            <ReadersTable readers={fitting} />
          </div>
        </>
      )}
      {making && <NewReader chosen={[]} onClose={() => setMaking(false)} />}
    </div>
  );
}
