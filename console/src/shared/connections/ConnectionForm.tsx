import { Button, Group, NumberInput, PasswordInput, Select, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Problem } from '../../api/client';
import { Checks } from '../Checks';
import { CopyLine, ProblemNote } from '../ProblemNote';
import { settingsOf, settingsText } from './settings';
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

const FIELDS = [
  'name',
  'host',
  'port',
  'database',
  'user',
  'password',
  'tls',
  'ca',
  'log_user',
  'log_password',
  'settings',
] as const;
type Field = (typeof FIELDS)[number];

const MODES: { value: NonNullable<ConnectionRequest['tls']>; label: string }[] = [
  { value: 'off', label: 'off' },
  { value: 'prefer', label: 'prefer: if the server offers it' },
  { value: 'require', label: 'require: always, whoever answers' },
  { value: 'verify', label: 'verify: always, and check the certificate' },
];

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
    tls: before?.tls ?? 'prefer',
    ca: before?.ca,
    log_user: before?.log_user,
    settings: before?.settings ?? {},
  });
  const test = useMutation({ mutationFn: () => testUnsaved(form) });
  const save = useMutation({
    mutationFn: () => (before ? replaceConnection(before.id, form) : createConnection(form)),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: connectionsQuery.queryKey });
      onSaved(made);
    },
  });
  const [settings, setSettings] = useState(settingsText(form.settings));
  const set = (field: Field, value: ConnectionRequest[Field]) => {
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
  const further = at !== null && ['log_user', 'log_password', 'settings'].includes(at);
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
      <Group mt="sm" grow align="flex-start">
        <Select
          label="Encryption"
          data={MODES}
          value={form.tls ?? 'prefer'}
          error={error('tls')}
          onChange={(value) => set('tls', MODES.find((m) => m.value === value)?.value)}
        />
      </Group>
      {form.tls === 'verify' && (
        <Textarea
          mt="sm"
          label="Certificate authority"
          description="Its certificate as PEM text; empty for those that Gonvel's machine trusts"
          autosize
          minRows={2}
          maxRows={6}
          classNames={{ input: 'mono' }}
          value={form.ca ?? ''}
          error={error('ca')}
          onChange={(e) => set('ca', e.currentTarget.value || undefined)}
        />
      )}
      <details className="further" open={further || undefined}>
        <summary>A second login for the log, settings of the session</summary>
        <Group mt="xs" grow align="flex-start">
          <TextInput
            label="Login for the log"
            description="Where reading rows and reading the log are separate"
            value={form.log_user ?? ''}
            error={error('log_user')}
            onChange={(e) => set('log_user', e.currentTarget.value || undefined)}
            autoComplete="off"
          />
          <PasswordInput
            label="Its password"
            description="Never shown again"
            placeholder={before?.log_user ? 'unchanged' : ''}
            value={form.log_password ?? ''}
            error={error('log_password')}
            onChange={(e) => set('log_password', e.currentTarget.value || undefined)}
            autoComplete="new-password"
          />
        </Group>
        <Textarea
          mt="sm"
          label="Settings of the session"
          description="One a line, as in lock_timeout=5s"
          autosize
          minRows={1}
          classNames={{ input: 'mono' }}
          value={settings}
          error={error('settings')}
          onChange={(e) => {
            setSettings(e.currentTarget.value);
            set('settings', settingsOf(e.currentTarget.value));
          }}
        />
      </details>
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
