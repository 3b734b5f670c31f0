import { Button, Group, Modal, Select, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
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

/** Appends one record, made from the schema, from a former record, or from nothing. */
export function Append({ name, partitions, former, onClose }: Props) {
  const schemas = useQuery(schemasQuery(name));
  if (schemas.isPending) return null;
  return <Form {...{ name, partitions, former, onClose }} schemas={schemas.data ?? []} />;
}

/** An Avro schema's tree; the other languages have no sample to begin with. */
function tree(version: Schemas['TopicSchema'] | undefined): unknown {
  return version?.language === 'avro' ? (JSON.parse(version.text) as unknown) : undefined;
}

function Form({ name, partitions, former, onClose, schemas }: Props & { schemas: Schemas['TopicSchema'][] }) {
  const value = schemas.findLast((s) => s.role === 'value');
  const key = schemas.findLast((s) => s.role === 'key');
  const [latest, setLatest] = useState(value !== undefined && (former === null || former.schema != null));
  const begin = () =>
    former
      ? draftOf(former)
      : latest && tree(value) !== undefined
        ? sampleDraft(tree(value), tree(key))
        : sampleDraft();
  const [draft, setDraft] = useState<Draft>(begin);
  const change = (part: Partial<Draft>) => setDraft((before) => ({ ...before, ...part }));
  const queries = useQueryClient();
  const appending = useMutation({
    mutationFn: () => appendRecord(name, recordText(draft, latest), latest),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['records', name] }),
  });
  const problem = problemOf(appending.error);
  return (
    <Modal opened onClose={onClose} title={`Append a record to ${name}`} size="lg">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          appending.mutate();
        }}
      >
        {value && (
          <Select
            label="Value"
            allowDeselect={false}
            data={[
              { value: 'latest', label: `by the latest schema (version ${value.version})` },
              { value: 'none', label: 'as the text it is' },
            ]}
            value={latest ? 'latest' : 'none'}
            onChange={(next) => setLatest(next === 'latest')}
          />
        )}
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
          allowDeselect={false}
          data={[
            { value: '', label: 'by its key' },
            ...Array.from({ length: partitions }, (_, n) => ({ value: String(n), label: `partition ${n}` })),
          ]}
          value={draft.partition}
          onChange={(partition) => change({ partition: partition ?? '' })}
        />
        <div style={{ marginTop: 14 }}>
          <ProblemNote problem={problem} />
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
          <Button type="submit" loading={appending.isPending}>
            Append
          </Button>
        </Group>
      </form>
    </Modal>
  );
}
