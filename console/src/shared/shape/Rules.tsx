import { ActionIcon, Button, Group, Select, TagsInput, TextInput } from '@mantine/core';

import type { Schemas } from '../../api/client';
import { covers, keyOf, type TableName } from '../tables';
import { moved, removed, replaced, type Finding } from './shape';
import { Findings } from './SqlField';

type TableRule = Schemas['TableRule'];
type Rule = Schemas['ShapeRule'];

interface Props {
  rules: readonly TableRule[];
  onChange: (rules: TableRule[]) => void;
  /** The tables there are. */
  tables: readonly TableName[];
  findings: readonly Finding[];
}

const WORDS: { value: Rule['rule']; label: string }[] = [
  { value: 'letters', label: 'letters of names' },
  { value: 'prefix', label: 'prefix of names' },
  { value: 'drop', label: 'drop columns' },
  { value: 'add', label: 'add a column' },
  { value: 'convert', label: 'convert all of a type' },
  { value: 'substitute', label: 'substitute control characters' },
  { value: 'mask', label: 'hide columns' },
];

function blank(word: Rule['rule']): Rule {
  switch (word) {
    case 'letters':
      return { rule: word, to: 'lower' };
    case 'prefix':
      return { rule: word, with: '' };
    case 'drop':
      return { rule: word, columns: [] };
    case 'add':
      return { rule: word, column: '', value: '' };
    case 'convert':
      return { rule: word, from: 'numeric', to: 'text' };
    case 'substitute':
      return { rule: word, which: 'control', with: ' ' };
    case 'mask':
      return { rule: word, columns: [], how: 'hash' };
  }
}

/** Rules for all tables that a pattern names, with the tables they touch. */
export function Rules({ rules, onChange, tables, findings }: Props) {
  return (
    <div className="rules">
      <p className="quiet">
        Rules come before a table’s own steps. Of several that are for a table, each sees what the one before it left.
      </p>
      {rules.map((rule, n) => {
        const touched = tables.filter((table) => covers(rule.tables, table)).map(keyOf);
        const set = (next: TableRule) => onChange(replaced(rules, n, next));
        return (
          <section key={n} className="rule" aria-label={`Rule ${n + 1}`}>
            <Group gap="xs" align="flex-end" wrap="nowrap">
              <TextInput
                label="For tables like"
                placeholder="cold.*"
                style={{ flex: 1 }}
                value={rule.tables}
                onChange={(e) => set({ ...rule, tables: e.currentTarget.value })}
              />
              <ActionIcon
                variant="subtle"
                aria-label={`Rule ${n + 1} earlier`}
                disabled={n === 0}
                onClick={() => onChange(moved(rules, n, n - 1))}
              >
                ↑
              </ActionIcon>
              <ActionIcon
                variant="subtle"
                aria-label={`Take rule ${n + 1} out`}
                onClick={() => onChange(removed(rules, n))}
              >
                ×
              </ActionIcon>
            </Group>
            <p className="quiet">
              {touched.length === 0
                ? 'It is for none of the tables.'
                : `It is for ${touched.slice(0, 6).join(', ')}${touched.length > 6 ? ` and ${touched.length - 6} more` : ''}.`}
            </p>
            {rule.rules.map((one, place) => (
              <Group key={place} gap="xs" align="flex-end" wrap="nowrap" className="steprow">
                <Select
                  label="Does"
                  w={210}
                  data={WORDS}
                  value={one.rule}
                  onChange={(word) =>
                    set({ ...rule, rules: replaced(rule.rules, place, blank((word ?? 'letters') as Rule['rule'])) })
                  }
                />
                <RuleFields
                  rule={one}
                  onChange={(next) => set({ ...rule, rules: replaced(rule.rules, place, next) })}
                />
                <ActionIcon
                  variant="subtle"
                  aria-label={`Take part ${place + 1} of rule ${n + 1} out`}
                  onClick={() => set({ ...rule, rules: removed(rule.rules, place) })}
                >
                  ×
                </ActionIcon>
              </Group>
            ))}
            <Button
              size="compact-xs"
              variant="default"
              onClick={() => set({ ...rule, rules: [...rule.rules, blank('letters')] })}
            >
              And
            </Button>
          </section>
        );
      })}
      <Findings findings={findings} />
      <Button
        size="xs"
        variant="default"
        onClick={() => onChange([...rules, { tables: '*.*', rules: [blank('letters')] }])}
      >
        Add a rule
      </Button>
    </div>
  );
}

function RuleFields({ rule, onChange }: { rule: Rule; onChange: (rule: Rule) => void }) {
  const patterns = (value: string[], set: (columns: string[]) => void) => (
    <TagsInput label="Columns like" placeholder="*phone*" style={{ flex: 1 }} value={value} onChange={set} />
  );
  switch (rule.rule) {
    case 'letters':
      return (
        <Select
          label="Into"
          data={[
            { value: 'lower', label: 'small' },
            { value: 'upper', label: 'CAPITAL' },
            { value: 'initial', label: 'Initial' },
          ]}
          value={rule.to}
          onChange={(to) => onChange({ ...rule, to: (to ?? 'lower') as Schemas['Letters'] })}
        />
      );
    case 'prefix':
      return (
        <TextInput
          label="With"
          value={rule.with}
          onChange={(e) => onChange({ ...rule, with: e.currentTarget.value })}
        />
      );
    case 'drop':
      return patterns(rule.columns, (columns) => onChange({ ...rule, columns }));
    case 'add':
      return (
        <>
          <TextInput
            label="Column"
            value={rule.column}
            onChange={(e) => onChange({ ...rule, column: e.currentTarget.value })}
          />
          <TextInput
            label="is"
            classNames={{ input: 'mono' }}
            placeholder="origin.committed_at"
            style={{ flex: 1 }}
            value={rule.value}
            onChange={(e) => onChange({ ...rule, value: e.currentTarget.value })}
          />
        </>
      );
    case 'convert':
      return (
        <>
          <TextInput
            label="All of"
            value={rule.from}
            onChange={(e) => onChange({ ...rule, from: e.currentTarget.value })}
          />
          <TextInput
            label="become"
            value={rule.to}
            onChange={(e) => onChange({ ...rule, to: e.currentTarget.value })}
          />
        </>
      );
    case 'substitute':
      return (
        <TextInput
          label="become"
          placeholder="nothing"
          value={rule.with ?? ''}
          onChange={(e) => onChange({ ...rule, with: e.currentTarget.value })}
        />
      );
    case 'mask':
      return (
        <>
          {patterns(rule.columns, (columns) => onChange({ ...rule, columns }))}
          <Select
            label="How"
            w={130}
            data={[
              { value: 'hash', label: 'keyed hash' },
              { value: 'token', label: 'token' },
              { value: 'hide', label: 'wholly' },
            ]}
            value={rule.how}
            onChange={(how) => onChange({ rule: 'mask', columns: rule.columns, how: (how ?? 'hash') as 'hash' })}
          />
        </>
      );
  }
}
