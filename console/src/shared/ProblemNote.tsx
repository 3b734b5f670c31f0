import { Button, CopyButton } from '@mantine/core';

import type { Problem, Schemas } from '../api/client';

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
  return (
    <div className="note" role="alert">
      <strong>{problem.title}.</strong> <span>{problem.detail}</span>
      {problem.remedy && <div className="remedy">Remedy: {problem.remedy}.</div>}
      {problem.statement && <CopyLine text={problem.statement} />}
    </div>
  );
}

/** The checks of a preflight, each with its finding and remedy. */
export function Checks({ checks }: { checks: Schemas['Check'][] }) {
  return (
    <ul className="checks">
      {checks.map((check) => (
        <li key={check.name}>
          <span aria-hidden style={{ color: check.outcome === 'passed' ? 'var(--well)' : 'var(--warn)' }}>
            {check.outcome === 'passed' ? '✓' : check.outcome === 'warning' ? '!' : '✕'}
          </span>
          <span>
            <strong>{check.name}</strong> <span className="quiet">{check.outcome}</span>: {check.finding}
            {check.remedy && <div>Remedy: {check.remedy}.</div>}
            {check.statement && <CopyLine text={check.statement} />}
          </span>
        </li>
      ))}
    </ul>
  );
}
