import { NumberInput, SegmentedControl, TagsInput, type NumberInputProps } from '@mantine/core';

import { Choice } from '../../shared/Choice';
import { badLabel, FAILING, oneLane, PLACING, type Draft } from './builder';
import type { Change } from './Stage';

/** Where a connector may run, and what happens when something fails. */
export function CarriedStage({ draft, change }: { draft: Draft; change: Change }) {
  const { placing, failing } = draft;
  const labels = Object.entries(placing.only_where ?? {}).map(([name, value]) => `${name}=${value}`);
  const whole = draft.kind === 'sink' && draft.writes.whole_transactions;
  const single = draft.kind === 'sink' && oneLane(draft.writes);
  return (
    <details className="further">
      <summary>Where it runs, and what happens when something fails</summary>
      <div className="choice">
        <div className="choice-label" id="bad-records">
          {draft.kind === 'source' ? 'A row that cannot be shaped' : 'A record that cannot be handled'}
        </div>
        <SegmentedControl
          size="xs"
          aria-labelledby="bad-records"
          data={[
            { value: 'quarantine', label: 'waits in quarantine' },
            { value: 'halt', label: 'halts the lane' },
          ]}
          disabled={whole}
          value={whole ? 'halt' : failing.records}
          onChange={(records) => change({ type: 'failing', set: { records: records as 'quarantine' | 'halt' } })}
        />
        {whole && <p className="quiet">Transactions stay whole only if nothing is left out of them.</p>}
        {draft.kind === 'source' && failing.records === 'quarantine' && (
          <p className="quiet">Only its key waits. Tried again, it is read in its table as it is then.</p>
        )}
      </div>
      {!whole && failing.records === 'quarantine' && (
        <>
          <Whole
            label="It halts after so many in a row"
            value={failing.most_in_a_row}
            onChange={(most_in_a_row) => change({ type: 'failing', set: { most_in_a_row } })}
            usual={FAILING.most_in_a_row}
          />
          <Whole
            label="And after so many a minute"
            value={failing.most_a_minute}
            onChange={(most_a_minute) => change({ type: 'failing', set: { most_a_minute } })}
            usual={FAILING.most_a_minute}
          />
          <Whole
            label="Days a record is kept there"
            max={3650}
            value={failing.kept_days}
            onChange={(kept_days) => change({ type: 'failing', set: { kept_days } })}
            usual={FAILING.kept_days}
          />
        </>
      )}
      {draft.kind !== 'source' && (
        <>
          <Choice
            small
            label="Records that the topic forgot before they were delivered"
            data={[
              { value: 'halt', label: 'halt the lane' },
              { value: 'pass_over', label: 'are passed over' },
            ]}
            value={failing.forgotten ?? 'halt'}
            onChange={(forgotten) => change({ type: 'failing', set: { forgotten } })}
          />
          {failing.forgotten === 'pass_over' && (
            <p className="quiet">They are lost. Its history says how many, and which.</p>
          )}
        </>
      )}
      <NumberInput
        mt="xs"
        label="Tries after which it halts"
        description="A lost connection is tried again, at longer and longer intervals"
        placeholder="as many as it takes"
        min={1}
        allowDecimal={false}
        value={failing.most_tries ?? ''}
        onChange={(v) => change({ type: 'failing', set: { most_tries: Number(v) || undefined } })}
      />
      <TagsInput
        mt="xs"
        label="It runs only on runners with"
        description="Labels such as site=packhouse; none for any runner"
        placeholder={labels.length === 0 ? 'any runner' : ''}
        value={labels}
        error={badLabel(labels)}
        onChange={(texts) => {
          const pairs = texts
            .map((text) => text.split(/=(.*)/s))
            .map(([name = '', value = '']) => [name.trim(), value.trim()]);
          change({ type: 'placing', set: { only_where: Object.fromEntries(pairs) as Record<string, string> } });
        }}
      />
      {draft.kind === 'sink' && (
        <Whole
          label="Lanes"
          description={
            whole
              ? 'Transactions stay whole only in one lane'
              : single
                ? 'Several lanes keep step only by positions in the target'
                : 'The topics’ partitions are shared out among them'
          }
          max={64}
          disabled={single}
          value={placing.lanes ?? PLACING.lanes}
          onChange={(lanes) => change({ type: 'placing', set: { lanes } })}
          usual={1}
        />
      )}
      <Whole
        label="Weight"
        description="How much of a runner’s room each lane takes"
        max={1000}
        value={placing.weight ?? PLACING.weight}
        onChange={(weight) => change({ type: 'placing', set: { weight } })}
        usual={1}
      />
    </details>
  );
}

type WholeProps = Omit<NumberInputProps, 'value' | 'onChange'> & {
  value: number | undefined;
  onChange: (value: number | undefined) => void;
  /** What holds where nothing is typed. */
  usual: number | undefined;
};

/** A whole number from 1. */
function Whole({ onChange, usual, ...rest }: WholeProps) {
  return (
    <NumberInput
      mt="xs"
      min={1}
      allowDecimal={false}
      thousandSeparator=","
      onChange={(value) => onChange(Number(value) || usual)}
      {...rest}
    />
  );
}
