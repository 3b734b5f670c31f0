import { Button, Group, NumberInput, PasswordInput, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Problem } from '../../api/client';
import { Checks, CopyLine, ProblemNote } from '../ProblemNote';
import {
  connectionsQuery,
  createConnection,
  replaceConnection,
  testUnsaved,
  type Connection,
  type ConnectionRequest,
} from './connectionsQueries';

interface Props {
  /** The connection to change; none makes a new one. */
  before?: Connection;
  onSaved: (connection: Connection) => void;
  onCancel?: () => void;
}

const FIELDS = ['name', 'host', 'port', 'database', 'user', 'password'] as const;
type Field = (typeof FIELDS)[number];

/** The fields of a connection to PostgreSQL; what is wrong stands beside its field, with the remedy. */
export function ConnectionForm({ before, onSaved, onCancel }: Props) {
  const queries = useQueryClient();
  const [form, setForm] = useState<ConnectionRequest>({
    name: before?.name ?? '',
    host: before?.host ?? '127.0.0.1',
    port: before?.port ?? 5432,
    database: before?.database ?? '',
    user: before?.user ?? '',
    password: before ? undefined : '',
  });
  const test = useMutation({ mutationFn: () => testUnsaved(form) });
  const save = useMutation({
    mutationFn: () => (before ? replaceConnection(before.id, form) : createConnection(form)),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: connectionsQuery.queryKey });
      onSaved(made);
    },
  });
  const set = (field: Field, value: string | number | undefined) => {
    setForm({ ...form, [field]: value });
    test.reset();
    save.reset();
  };
  const failed = test.data?.checks.find((c) => c.outcome === 'failed');
  const problem: Problem | null = problemOf(save.error) ?? problemOf(test.error);
  const at = problem?.field ?? failed?.field ?? null;
  const finding = problem ? [problem.detail, problem.remedy] : [failed?.finding, failed?.remedy];
  const statement = problem?.statement ?? failed?.statement;
  const besideField = FIELDS.find((f) => f === at);
  const error = (field: Field) =>
    besideField === field
      ? finding
          .filter(Boolean)
          .map((t) => `${t}.`)
          .join(' Remedy: ')
      : undefined;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {problem && !besideField && <ProblemNote problem={problem} />}
      <TextInput
        label="Name"
        description="How it is called in Gonvel: letters, digits, dots, dashes"
        value={form.name}
        error={error('name')}
        onChange={(e) => set('name', e.currentTarget.value)}
        required
        data-autofocus
      />
      <Group mt="sm" grow preventGrowOverflow={false} align="flex-start">
        <TextInput
          style={{ flex: 3 }}
          label="Host"
          value={form.host}
          error={error('host')}
          onChange={(e) => set('host', e.currentTarget.value)}
          required
        />
        <NumberInput
          style={{ flex: 1 }}
          label="Port"
          min={1}
          max={65_535}
          hideControls
          allowDecimal={false}
          value={form.port}
          error={error('port')}
          onChange={(value) => set('port', Number(value) || 0)}
          required
        />
      </Group>
      <TextInput
        mt="sm"
        label="Database"
        value={form.database}
        error={error('database')}
        onChange={(e) => set('database', e.currentTarget.value)}
        required
      />
      <Group mt="sm" grow align="flex-start">
        <TextInput
          label="User"
          value={form.user}
          error={error('user')}
          onChange={(e) => set('user', e.currentTarget.value)}
          autoComplete="off"
          required
        />
        <PasswordInput
          label="Password"
          placeholder={before ? 'unchanged' : ''}
          value={form.password ?? ''}
          error={error('password')}
          onChange={(e) => set('password', e.currentTarget.value || (before ? undefined : ''))}
          autoComplete="new-password"
        />
      </Group>
      {statement && besideField && <CopyLine text={statement} />}
      {test.data && !failed && (
        <div className="note well" style={{ marginTop: 14 }}>
          Answered in {test.data.took_ms} ms.
          <Checks checks={test.data.checks} />
        </div>
      )}
      {failed && !besideField && <Checks checks={[failed]} />}
      <Group mt="md" justify="flex-end">
        {onCancel && (
          <Button variant="subtle" onClick={onCancel}>
            Cancel
          </Button>
        )}
        <Button
          variant="default"
          loading={test.isPending}
          onClick={() => test.mutate()}
          disabled={before && form.password === undefined}
        >
          Test
        </Button>
        <Button type="submit" loading={save.isPending}>
          {before ? 'Save' : 'Save connection'}
        </Button>
      </Group>
    </form>
  );
}
