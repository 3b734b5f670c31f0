import { Button } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link } from 'react-router';

import { problemOf } from '../../api/client';
import { useKeptCurrent } from '../liveConnectors';
import { ProblemNote } from '../ProblemNote';
import { When } from '../When';
import { came, canBeCancelled, cancel, inOrder, operationsQuery, parts, progress, type Operation } from './operations';

const STATE: Record<Operation['state'], { tone: string; word: string }> = {
  running: { tone: 'well', word: 'running' },
  done: { tone: 'quiet', word: 'done' },
  failed: { tone: 'warn', word: 'failed' },
  cancelled: { tone: 'quiet', word: 'cancelled' },
};

/** Where one finds what it is done with. */
function placeOf({ subject }: Operation): string | null {
  if (subject?.kind === 'connector' && subject.id) return `/connectors/${subject.id}`;
  return subject?.kind === 'topic' ? `/topics/${encodeURIComponent(subject.name)}` : null;
}

/** One operation: what it does, how far it is or how it ended, and the offer to cancel it. */
export function OperationLine({
  operation,
  here,
  said,
  more,
}: {
  operation: Operation;
  /** Whether it stands where one looks at its subject. */
  here?: boolean;
  /** What is said there already. */
  said?: string | null;
  more?: ReactNode;
}) {
  const { state, done, total, waits, problem } = operation;
  const [before, name, after] = parts(operation);
  const cancelling = useMutation({ mutationFn: () => cancel(operation.id) });
  const far = progress(operation);
  const place = here ? null : placeOf(operation);
  const { tone, word } = waits ? { tone: 'warn', word: 'waits' } : STATE[state];
  return (
    <li className="operation" data-state={state}>
      <div className="line">
        <span className="state" data-tone={tone}>
          {operation.cancelling ? 'ending' : word}
        </span>
        <span className="says">
          {before}
          {place ? <Link to={place}>{name}</Link> : name}
          {after}
        </span>
        <span className="quiet far">
          {far}
          {far !== '' && ' · '}
          <When time={operation.ended_at ?? operation.began_at} />
          {operation.asked_by && `, ${operation.asked_by}`}
        </span>
        {canBeCancelled(operation) && (
          <Button
            size="compact-sm"
            variant="default"
            aria-label={`Cancel: ${operation.says}`}
            loading={cancelling.isPending}
            onClick={() => cancelling.mutate()}
          >
            Cancel
          </Button>
        )}
        {more}
      </div>
      {state === 'running' && total != null && total > 1 && (
        <div
          className="bar"
          role="progressbar"
          aria-label={operation.says}
          aria-valuemin={0}
          aria-valuemax={total}
          aria-valuenow={done}
        >
          <div style={{ width: `${(100 * done) / total}%` }} />
        </div>
      )}
      {waits && waits !== said && <p className="fault">It waits: {waits}</p>}
      {came(operation).map((line) => (
        <p key={line} className="quiet">
          {line}
        </p>
      ))}
      {problem && (
        <p className="fault">
          {problem.detail}. Remedy: {problem.remedy}.
        </p>
      )}
      <ProblemNote problem={problemOf(cancelling.error)} />
    </li>
  );
}

/** What is being done just now with what one looks at. */
export function BeingDone({
  of,
  said,
  more,
}: {
  of: (o: Operation) => boolean;
  said?: string | null;
  more?: (o: Operation) => ReactNode;
}) {
  const operations = useQuery({ ...operationsQuery, ...useKeptCurrent('operation') });
  const running = inOrder(operations.data ?? []).running.filter(of);
  if (running.length === 0) return null;
  return (
    <ul className="operations sheet" aria-label="Running">
      {running.map((operation) => (
        <OperationLine key={operation.id} operation={operation} here said={said} more={more?.(operation)} />
      ))}
    </ul>
  );
}
