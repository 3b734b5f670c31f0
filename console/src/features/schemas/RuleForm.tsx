import { SegmentedControl } from '@mantine/core';

import type { Rule } from './schemasQueries';
import { ruleMeaning } from './words';

const HALVES = [
  { value: 'off', label: 'off' },
  { value: 'latest', label: 'latest' },
  { value: 'all', label: 'all' },
] as const;

const ROWS = [
  ['reads_past', 'Reads past', 'the new version reads what earlier ones wrote'],
  ['past_reads', 'Past reads', 'earlier versions read what the new one writes'],
] as const;

/** Both halves of a rule, and what they mean together. */
export function RuleForm({ rule, onChange }: { rule: Rule; onChange: (rule: Rule) => void }) {
  return (
    <div>
      {ROWS.map(([half, label, says]) => (
        <div className="choice" key={half}>
          <div className="choice-label" id={`rule-${half}`}>
            {label} <span className="quiet">– {says}</span>
          </div>
          <SegmentedControl
            size="xs"
            aria-labelledby={`rule-${half}`}
            data={HALVES.map((h) => ({ ...h }))}
            value={rule[half] ?? 'off'}
            onChange={(value) => onChange({ ...rule, [half]: value as (typeof HALVES)[number]['value'] })}
          />
        </div>
      ))}
      <p style={{ marginBottom: 0 }} aria-live="polite">
        {ruleMeaning(rule)}
      </p>
    </div>
  );
}
