import { Button, CopyButton } from '@mantine/core';

import { type Problem, remedyOf } from '../api/client';

/** A text to copy, as a line. */
export function CopyLine({ text }: { text: string }) {
  return (
    <div className="copyline">
      <code>{text}</code>
      <CopyButton value={text}>
        {({ copied, copy }) => (
          <Button size="compact-xs" variant="default" onClick={copy}>
            {copied ? 'Copied' : 'Copy'}
          </Button>
        )}
      </CopyButton>
    </div>
  );
}

/** What was found, what it means, what to do. */
export function ProblemNote({ problem }: { problem: Problem | null }) {
  if (problem === null) return null;
  const remedy = remedyOf(problem);
  return (
    <div className="note" role="alert">
      <strong>{problem.title}:</strong> <span>{problem.detail.replace(/\.$/, '')}.</span>
      {remedy && <div className="remedy">Remedy: {remedy}.</div>}
      {problem.statement && <CopyLine text={problem.statement} />}
    </div>
  );
}
