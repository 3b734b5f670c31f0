import { Button } from '@mantine/core';

import type { Schemas } from '../api/client';
import { CopyLine } from './ProblemNote';

export type Check = Schemas['Check'];

interface Props {
  checks: Check[];
  /** Carries out a check's remedy, where the connection's own login may. */
  onMend?: (check: string) => void;
  /** The check whose remedy is being carried out. */
  mending?: string | null;
}

/** The checks of a preflight, each with its finding, its meaning and its remedy: first what is not as it should be. */
export function Checks({ checks, onMend, mending }: Props) {
  const open = checks.filter((c) => c.outcome !== 'passed');
  const passed = checks.filter((c) => c.outcome === 'passed');
  const list = (some: Check[]) => (
    <ul className="checks">
      {some.map((check) => (
        <li key={check.name}>
          <One check={check} onMend={onMend} mending={mending} />
        </li>
      ))}
    </ul>
  );
  return (
    <>
      {open.length > 0 && list(open.sort((a, b) => Number(a.outcome === 'warning') - Number(b.outcome === 'warning')))}
      {passed.length > 0 && (
        <details className="passed">
          <summary>{passed.length === 1 ? '1 check passed' : `${passed.length} checks passed`}</summary>
          {list(passed)}
        </details>
      )}
    </>
  );
}

function One({ check, onMend, mending }: { check: Check } & Pick<Props, 'onMend' | 'mending'>) {
  return (
    <>
      <span aria-hidden style={{ color: check.outcome === 'passed' ? 'var(--well)' : 'var(--warn)' }}>
        {check.outcome === 'passed' ? '✓' : check.outcome === 'warning' ? '!' : '✕'}
      </span>
      <span>
        <strong>{check.name}</strong> <span className="quiet">{check.outcome}</span>: {check.finding}
        {check.meaning && <div>That means: {check.meaning}.</div>}
        {check.remedy && <div>Remedy: {check.remedy}.</div>}
        {check.statement && <CopyLine text={check.statement} />}
        {check.can_be_done && onMend && (
          <Button
            mt={6}
            size="compact-sm"
            variant="default"
            loading={mending === check.name}
            disabled={mending != null && mending !== check.name}
            onClick={() => onMend(check.name)}
          >
            Do it for me
          </Button>
        )}
      </span>
    </>
  );
}
