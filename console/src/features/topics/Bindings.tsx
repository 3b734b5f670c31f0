import { Button, Checkbox, Group, Select } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { ProblemNote } from '../../shared/ProblemNote';
import { schemaNamesQuery } from '../../shared/schemaNamesQuery';
import { bindSchema, schemasQuery } from './topicsQueries';

/** The schemas that a topic's keys and values follow, and whether they have to. */
export function Bindings({ name }: { name: string }) {
  const bound = useQuery(schemasQuery(name));
  const names = useQuery(schemaNamesQuery);
  const latest = (role: string) => bound.data?.filter((v) => v.role === role).at(-1) ?? null;
  return (
    <section className="sheet" aria-label="Schemas" style={{ marginBottom: 16 }}>
      <h2>Schemas</h2>
      <div style={{ padding: 16 }}>
        <ProblemNote problem={problemOf(bound.error ?? names.error)} />
        {bound.data &&
          names.data &&
          ['value', 'key'].map((role) => (
            <Binding
              key={`${role} ${latest(role)?.name ?? ''} ${String(latest(role)?.required)}`}
              topic={name}
              role={role}
              bound={latest(role)}
              names={names.data.filter((s) => !s.retired_at).map((s) => s.name)}
            />
          ))}
      </div>
    </section>
  );
}

interface Props {
  topic: string;
  role: string;
  bound: Schemas['TopicSchema'] | null;
  names: string[];
}

function Binding({ topic, role, bound, names }: Props) {
  const queries = useQueryClient();
  const [schema, setSchema] = useState(bound?.name ?? null);
  const [required, setRequired] = useState(bound?.required ?? false);
  const saving = useMutation({
    mutationFn: () => bindSchema(topic, role, schema, required),
    onSuccess: () => queries.invalidateQueries({ queryKey: schemasQuery(topic).queryKey }),
  });
  const changed = schema !== (bound?.name ?? null) || required !== (bound?.required ?? false);
  const words = role === 'key' ? 'Keys' : 'Values';
  const all = bound && !names.includes(bound.name) ? [bound.name, ...names] : names;
  return (
    <form
      style={{ marginBottom: 14 }}
      onSubmit={(event) => {
        event.preventDefault();
        saving.mutate();
      }}
    >
      <Select
        label={`${words} follow`}
        placeholder="no schema"
        searchable
        clearable
        data={all}
        value={schema}
        onChange={setSchema}
      />
      <Checkbox
        mt={8}
        label={`Refuse ${words.toLowerCase()} that do not fit`}
        disabled={schema === null}
        checked={required && schema !== null}
        onChange={(event) => setRequired(event.currentTarget.checked)}
      />
      <ProblemNote problem={problemOf(saving.error)} />
      <Group mt={8} justify="space-between">
        {bound ? <Link to={`/schemas/${encodeURIComponent(bound.name)}`}>Version {bound.version}</Link> : <span />}
        {changed && (
          <Button type="submit" size="compact-sm" loading={saving.isPending}>
            {schema === null ? 'Let go of it' : 'Bind'}
          </Button>
        )}
      </Group>
    </form>
  );
}
