import { Button, Group, Select, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { draftOf, recordText, sampleDraft, type Draft } from './draft';
import { appendRecord, schemasQuery, type TopicRecord } from './topicsQueries';

interface Props {
  name: string;
  partitions: number;
  former: TopicRecord | null;
  onClose: () => void;
}

/** An Avro schema's tree; the other languages have no sample to begin with. */
function tree(version: Schemas['TopicSchema'] | undefined): unknown {
  return version?.language === 'avro' ? (JSON.parse(version.text) as unknown) : undefined;
}

/**
 * Appends one record, made from the schema, from a former record, or from nothing. The form is there at once; what the schema
 * fills in comes when it is read, beside what has been typed by then.
 */
export function Append({ name, partitions, former, onClose }: Props) {
  const schemas = useQuery(schemasQuery(name));
  const value = schemas.data?.findLast((s) => s.role === 'value');
  const key = schemas.data?.findLast((s) => s.role === 'key');
  const [chosen, setChosen] = useState<boolean | null>(null);
  const latest = value !== undefined && (chosen ?? (former === null || former.schema != null));
  const begin = former ? draftOf(former) : sampleDraft(tree(value), tree(value) === undefined ? undefined : tree(key));
  const [typed, setTyped] = useState<Partial<Draft>>({});
  const draft = { ...begin, ...typed };
  const change = (part: Partial<Draft>) => setTyped((before) => ({ ...before, ...part }));
  const queries = useQueryClient();
  const appending = useMutation({
    mutationFn: () => appendRecord(name, recordText(draft, latest), latest),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['records', name] }),
  });
  const problem = problemOf(appending.error);
  const noSchema = value
    ? 'none: the text as it is'
    : `none: the ${schemas.error ? 'schemas could not be read' : 'topic has no schema'}`;
  return (
    <Dialog opened onClose={onClose} title={`Append a record to ${name}`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          appending.mutate();
        }}
      >
        <Select
          label="Schema"
          disabled={schemas.isPending}
          readOnly={value === undefined}
          placeholder="reading the topic’s schemas"
          data={[
            ...(value ? [{ value: 'latest', label: `the latest, version ${value.version}` }] : []),
            { value: 'none', label: noSchema },
          ]}
          value={schemas.isPending ? null : latest ? 'latest' : 'none'}
          onChange={(next) => setChosen(next === 'latest')}
        />
        <TextInput
          mt="sm"
          label="Key"
          description={latest && key ? 'JSON, as the key’s schema has it.' : 'Text; empty for none.'}
          value={draft.key}
          onChange={(event) => change({ key: event.currentTarget.value })}
          classNames={{ input: 'mono' }}
        />
        <Textarea
          mt="sm"
          label="Value as JSON"
          description="null says that the key is gone."
          autosize
          minRows={4}
          maxRows={16}
          value={draft.value}
          onChange={(event) => change({ value: event.currentTarget.value })}
          classNames={{ input: 'mono' }}
          data-autofocus
          spellCheck={false}
        />
        <Textarea
          mt="sm"
          label="Headers"
          description="One on each line, as name: value."
          autosize
          minRows={1}
          maxRows={6}
          value={draft.headers}
          onChange={(event) => change({ headers: event.currentTarget.value })}
          classNames={{ input: 'mono' }}
        />
        <Select
          mt="sm"
          w={220}
          label="Partition"
          data={[
            { value: '', label: 'by its key' },
            ...Array.from({ length: partitions }, (_, n) => ({ value: String(n), label: `partition ${n}` })),
          ]}
          value={draft.partition}
          onChange={(partition) => change({ partition: partition ?? '' })}
        />
        <div style={{ marginTop: 14 }}>
          <ProblemNote problem={problem ?? problemOf(schemas.error)} />
          {appending.data && (
            <div className="note well" role="status">
              Appended at offset {count(appending.data.offset)} of partition {appending.data.partition}.
            </div>
          )}
        </div>
        <Group justify="flex-end">
          <Button variant="default" onClick={onClose}>
            {appending.data ? 'Done' : 'Cancel'}
          </Button>
          <Button type="submit" loading={appending.isPending} disabled={schemas.isPending}>
            Append
          </Button>
        </Group>
      </form>
    </Dialog>
  );
}
