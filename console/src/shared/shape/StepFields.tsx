import { Checkbox, Group, Select, TextInput } from '@mantine/core';
import type { ReactNode } from 'react';

import type { Schemas } from '../../api/client';
import { Choice } from '../Choice';
import { Chosen, Column, Ends, Rows } from './controls';
import { LookupFields } from './LookupFields';
import { OriginFields } from './OriginFields';
import type { Finding, Kind, Of, ShapeStep } from './shape';
import { Findings, SqlField } from './SqlField';

interface Props {
  step: ShapeStep;
  onChange: (step: ShapeStep) => void;
  /** The columns that the step sees. */
  columns: readonly Schemas['ShapeColumn'][];
  functions: readonly Schemas['ShapeFunction'][];
  /** What was found about the step. */
  findings: readonly Finding[];
  /** Topics that may be looked into. */
  topics: readonly string[];
  /** What kind of connector it is a step of. */
  kind: Kind;
}

const TYPES = [
  'text', 'boolean', 'smallint', 'integer', 'bigint', 'numeric(12,2)', 'real', 'double precision', 'date', 'timestamp',
  'timestamptz', 'time', 'interval', 'uuid', 'json', 'jsonb', 'bytea',
]; // prettier-ignore

/** The fields of one step. */
export function StepFields(props: Props) {
  const { step, onChange, findings } = props;
  // what is said of a text of SQL stands below that text
  const elsewhere = findings.filter((f) => !['value', 'only', 'select'].includes(f.field));
  return (
    <div className="stepfields">
      <Fields {...props} />
      {step.step !== 'filter' && step.step !== 'sql' && <Findings findings={elsewhere} />}
      <Checkbox
        mt="sm"
        size="xs"
        label="Switched off: rows pass it by"
        checked={step.off ?? false}
        onChange={(e) => onChange({ ...step, off: e.currentTarget.checked || undefined } as ShapeStep)}
      />
    </div>
  );
}

function Fields({ step, onChange, columns, functions, findings, topics, kind }: Props): ReactNode {
  const names = columns.map((c) => c.name);
  const texts = columns.filter((c) => /text|char/.test(c.type)).map((c) => c.name);
  const written = (field: string) => findings.filter((f) => f.field === field);
  const sql = (field: string, label: string, text: string, set: (text: string) => void, placeholder?: string) => (
    <SqlField
      label={label}
      text={text}
      onType={set}
      columns={columns}
      functions={functions}
      findings={written(field)}
      placeholder={placeholder}
      tall={field === 'select'}
    />
  );
  switch (step.step) {
    case 'keep':
    case 'drop':
    case 'reorder':
      return (
        <Chosen
          label="Columns"
          names={names}
          value={step.columns}
          onChange={(c) => onChange({ ...step, columns: c })}
        />
      );
    case 'trim':
      return (
        <>
          <Chosen
            label="Columns"
            names={texts}
            value={step.columns}
            onChange={(c) => onChange({ ...step, columns: c })}
          />
          <Choice
            small
            label="Where"
            value={step.ends ?? 'both'}
            data={[
              { value: 'both', label: 'both ends' },
              { value: 'first', label: 'beginning' },
              { value: 'last', label: 'end' },
            ]}
            onChange={(ends) => onChange({ ...step, ends: ends as Of<'trim'>['ends'] })}
          />
        </>
      );
    case 'letters':
      return (
        <>
          <Chosen
            label="Columns"
            names={texts}
            value={step.columns}
            onChange={(c) => onChange({ ...step, columns: c })}
          />
          <Choice
            small
            label="Letters"
            value={step.to}
            data={[
              { value: 'lower', label: 'small' },
              { value: 'upper', label: 'CAPITAL' },
              { value: 'initial', label: 'Capital Initials' },
            ]}
            onChange={(to) => onChange({ ...step, to: to as Of<'letters'>['to'] })}
          />
        </>
      );
    case 'rename':
      return (
        <Rows
          what="column"
          rows={step.columns}
          blank={{ column: '', to: '' }}
          onChange={(all) => onChange({ ...step, columns: all })}
        >
          {(row, set) => (
            <>
              <Column label="Column" names={names} value={row.column} onChange={(column) => set({ ...row, column })} />
              <TextInput
                label="is called"
                value={row.to}
                onChange={(e) => set({ ...row, to: e.currentTarget.value })}
              />
            </>
          )}
        </Rows>
      );
    case 'compute':
      return (
        <>
          <TextInput
            label="Column"
            description="A name that is there already is replaced"
            value={step.column}
            onChange={(e) => onChange({ ...step, column: e.currentTarget.value })}
          />
          <div className="choice-label">is</div>
          {sql(
            'value',
            'What the column is',
            step.value,
            (value) => onChange({ ...step, value }),
            'round(weight_kg * price, 2)',
          )}
        </>
      );
    case 'fill':
      return (
        <>
          <Column
            label="Column"
            names={names}
            value={step.column}
            onChange={(column) => onChange({ ...step, column })}
          />
          <div className="choice-label">where it is null, stands</div>
          {sql('value', 'What stands instead of null', step.value, (value) => onChange({ ...step, value }), "'none'")}
        </>
      );
    case 'convert':
      return (
        <Group grow align="flex-end">
          <Column
            label="Column"
            names={names}
            value={step.column}
            onChange={(column) => onChange({ ...step, column })}
          />
          <Select
            label="becomes"
            searchable
            data={TYPES.includes(step.to) ? TYPES : [step.to, ...TYPES]}
            value={step.to}
            onChange={(to) => onChange({ ...step, to: to ?? 'text' })}
          />
        </Group>
      );
    case 'mask':
      return (
        <>
          <Chosen
            label="Columns"
            names={names}
            value={step.columns}
            onChange={(c) => onChange({ ...step, columns: c })}
          />
          <Choice
            small
            label="How"
            value={step.how}
            data={[
              { value: 'hash', label: 'keyed hash' },
              { value: 'token', label: 'token' },
              { value: 'partial', label: 'partly' },
              { value: 'hide', label: 'wholly' },
            ]}
            onChange={(how) => {
              const { columns: which, off } = step;
              const more = how === 'partial' ? { first: 0, last: 2 } : {};
              onChange({ step: 'mask', columns: which, off, how, ...more } as ShapeStep);
            }}
          />
          <p className="quiet">{MASKS[step.how]}</p>
          {step.how === 'partial' && (
            <Group grow>
              <Ends
                label="First characters that stay"
                value={step.first ?? 0}
                onChange={(first) => onChange({ ...step, first })}
              />
              <Ends
                label="Last ones that stay"
                value={step.last ?? 0}
                onChange={(last) => onChange({ ...step, last })}
              />
            </Group>
          )}
          {step.how === 'hide' && (
            <TextInput
              label="Shown instead"
              placeholder="null"
              value={step.with ?? ''}
              onChange={(e) => onChange({ ...step, with: e.currentTarget.value || undefined })}
            />
          )}
        </>
      );
    case 'substitute':
      return (
        <>
          <Chosen
            label="Columns"
            names={texts}
            value={step.columns}
            onChange={(c) => onChange({ ...step, columns: c })}
          />
          <Choice
            small
            label="Characters"
            value={step.which}
            data={[
              { value: 'control', label: 'control' },
              { value: 'not_latin1', label: 'not in Latin 1' },
              { value: 'not_ascii', label: 'not in ASCII' },
              { value: 'these', label: 'these' },
            ]}
            onChange={(which) => {
              const { columns: all, off } = step;
              const more = which === 'these' ? { characters: '' } : {};
              onChange({ step: 'substitute', columns: all, off, with: step.with, which, ...more } as ShapeStep);
            }}
          />
          {step.which === 'these' && (
            <TextInput
              label="Which"
              value={step.characters}
              onChange={(e) => onChange({ ...step, characters: e.currentTarget.value })}
            />
          )}
          <TextInput
            label="become"
            placeholder="nothing"
            value={step.with ?? ''}
            onChange={(e) => onChange({ ...step, with: e.currentTarget.value })}
          />
        </>
      );
    case 'split':
      return (
        <>
          <Group grow align="flex-end">
            <Column
              label="Column"
              names={texts}
              value={step.column}
              onChange={(column) => onChange({ ...step, column })}
            />
            <TextInput
              label="Between the parts"
              value={step.by}
              onChange={(e) => onChange({ ...step, by: e.currentTarget.value })}
            />
          </Group>
          <Rows what="part" rows={step.into} blank="" onChange={(into) => onChange({ ...step, into })}>
            {(name, set, n) => (
              <TextInput label={`Part ${n + 1}`} value={name} onChange={(e) => set(e.currentTarget.value)} />
            )}
          </Rows>
        </>
      );
    case 'unpack':
      return (
        <>
          <Column
            label="Column"
            names={names}
            value={step.column}
            onChange={(column) => onChange({ ...step, column })}
          />
          <Rows
            what="value"
            rows={step.fields}
            blank={{ path: [], column: '', type: 'text' }}
            onChange={(fields) => onChange({ ...step, fields })}
          >
            {(field, set) => (
              <>
                <TextInput
                  label="Path"
                  placeholder="room.label"
                  value={field.path.join('.')}
                  onChange={(e) => set({ ...field, path: e.currentTarget.value.split('.').filter((p) => p !== '') })}
                />
                <TextInput
                  label="Column"
                  value={field.column}
                  onChange={(e) => set({ ...field, column: e.currentTarget.value })}
                />
                <Select
                  label="Type"
                  data={TYPES}
                  value={field.type}
                  onChange={(type) => set({ ...field, type: type ?? 'text' })}
                />
              </>
            )}
          </Rows>
          <Checkbox
            size="xs"
            mt="xs"
            label="The column stays as well"
            checked={step.keep ?? false}
            onChange={(e) => onChange({ ...step, keep: e.currentTarget.checked })}
          />
        </>
      );
    case 'filter':
      return (
        <>
          <div className="choice-label">Only rows where</div>
          {sql(
            'only',
            'The condition',
            step.only,
            (only) => onChange({ ...step, only }),
            "grade = 'A' AND weight_kg > 100",
          )}
          <p className="quiet">A row that no longer fits is deleted there; one that fits from now on is inserted.</p>
        </>
      );
    case 'route':
      return (
        <Rows what="way" rows={step.ways} blank={{ when: '', to: '' }} onChange={(ways) => onChange({ ...step, ways })}>
          {(way, set) => (
            <>
              <div style={{ flex: 2 }}>
                <div className="choice-label">Rows where</div>
                <SqlField
                  label="Rows where"
                  text={way.when ?? ''}
                  onType={(when) => set({ ...way, when })}
                  columns={columns}
                  functions={functions}
                  findings={[]}
                  placeholder="all that are left"
                />
              </div>
              <TextInput
                label="go to"
                placeholder="packhouse.large"
                value={way.to}
                onChange={(e) => set({ ...way, to: e.currentTarget.value })}
              />
            </>
          )}
        </Rows>
      );
    case 'origin':
      return <OriginFields step={step} onChange={onChange} kind={kind} />;
    case 'lookup':
      return <LookupFields step={step} onChange={onChange} names={names} topics={topics} kind={kind} />;
    case 'drop_repeats':
      return (
        <Chosen
          label="Rows that are the same in"
          placeholder="all columns"
          names={names}
          value={step.by ?? []}
          onChange={(by) => onChange({ ...step, by })}
        />
      );
    case 'sql':
      return (
        <>
          <p className="quiet">
            One row at a time: <span className="mono">SELECT … FROM input WHERE …</span>
          </p>
          {sql('select', 'The statement', step.select, (select) => onChange({ ...step, select }))}
        </>
      );
  }
}

const MASKS: Record<Of<'mask'>['how'], string> = {
  hash: 'HMAC-SHA-256 with Gonvel’s secret: equal values stay equal, and none can be told from its hash.',
  token: 'A short text that stands for the value; whole numbers stay whole numbers. Equal values stay equal.',
  partial: 'Some characters at the ends stay, the others become *.',
  hide: 'One value instead of all.',
};
