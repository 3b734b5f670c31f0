import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { FilterInput, fits, useFilter } from '../../shared/Filter';
import { count } from '../../shared/format';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { OperationLine } from '../../shared/operations/OperationLine';
import { inOrder, operationsQuery } from '../../shared/operations/operations';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';

/** Operations shown at first of those that ended. */
const SHOWN = 100;

/** Work that takes longer than a request: how far it is, and how it ended. */
export function OperationsPage() {
  const query = useQuery({ ...operationsQuery, ...useKeptCurrent('operation') });
  const [filter, setFilter] = useFilter();
  const [all, setAll] = useState(false);
  const { running, ended } = inOrder(query.data ?? []);
  const found = ended.filter((o) => fits(filter, o.says, o.state, o.subject?.name ?? '', o.asked_by ?? ''));
  const shown = all ? found : found.slice(0, SHOWN);
  const failed = ended.filter((operation) => operation.state === 'failed').length;
  return (
    <div className="page">
      <Heading
        title="Operations"
        says="Work that takes a while: deletes, loads, retries, imports and manifests. It goes on when you leave the page."
      />
      <ProblemNote problem={query.data ? null : problemOf(query.error)} />
      {query.data?.length === 0 && (
        <Blank title="Nothing runs, and nothing ran this week">
          Loading a table again, trying records of quarantine again, importing a file, applying manifests and deleting a
          connector show here while they run, and for a week after.
        </Blank>
      )}
      {query.data && query.data.length > 0 && (
        <>
          <div className="figures">
            <Figure label="Running" value={count(running.length)} />
            <Figure label="Ended this week" value={count(ended.length)} />
            <Figure label="Failed" value={count(failed)} tone={failed > 0 ? 'warn' : undefined} />
          </div>
          {running.length > 0 && (
            <ul className="operations sheet" aria-label="Running">
              {running.map((operation) => (
                <OperationLine key={operation.id} operation={operation} />
              ))}
            </ul>
          )}
          {ended.length > 0 && (
            <section className="sheet" aria-label="Ended">
              <div className="tools">
                <FilterInput label="What, with what, who or how it ended" value={filter} onChange={setFilter} />
                <span className="quiet">
                  {count(found.length)} of {count(ended.length)} that ended
                </span>
              </div>
              <ul className="operations">
                {shown.map((operation) => (
                  <OperationLine key={operation.id} operation={operation} />
                ))}
              </ul>
              {found.length > shown.length && (
                <Button variant="subtle" size="compact-sm" onClick={() => setAll(true)}>
                  Show all {count(found.length)}
                </Button>
              )}
            </section>
          )}
        </>
      )}
    </div>
  );
}
