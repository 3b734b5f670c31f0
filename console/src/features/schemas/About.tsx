import { Button, Checkbox, Group, TagsInput, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';

import { problemOf, type Plan } from '../../api/client';
import { ConfirmPlan } from '../../shared/ConfirmPlan';
import { ProblemNote } from '../../shared/ProblemNote';
import { RuleForm } from './RuleForm';
import { changeSchema, deleteSchema, schemaQuery, type Schema } from './schemasQueries';

/** What is said of a schema, its rule, what uses it, and its end. */
export function About({ schema }: { schema: Schema }) {
  const queries = useQueryClient();
  const [rule, setRule] = useState(schema.rule);
  const [description, setDescription] = useState(schema.description);
  const [owner, setOwner] = useState(schema.owner);
  const [labels, setLabels] = useState(schema.labels);
  const [retired, setRetired] = useState(schema.retired_at != null);
  const [deleting, setDeleting] = useState(false);
  const saving = useMutation({
    mutationFn: () => changeSchema(schema.name, schema.revision, { rule, description, owner, labels, retired }),
    onSuccess: (changed) => {
      queries.setQueryData(schemaQuery(schema.name).queryKey, changed);
      void queries.invalidateQueries({ queryKey: ['schemas'] });
    },
  });
  const same =
    JSON.stringify([rule, description, owner, labels, retired]) ===
    JSON.stringify([schema.rule, schema.description, schema.owner, schema.labels, schema.retired_at != null]);
  return (
    <div className="stages">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          saving.mutate();
        }}
      >
        <section className="sheet" aria-label="Rule">
          <h2>Rule for new versions</h2>
          <div style={{ padding: 16 }}>
            <RuleForm rule={rule} onChange={setRule} />
          </div>
        </section>
        <section className="sheet" aria-label="What is said of it" style={{ marginTop: 16 }}>
          <h2>What is said of it</h2>
          <div style={{ padding: 16 }}>
            <Textarea
              label="Description"
              autosize
              minRows={2}
              value={description}
              onChange={(event) => setDescription(event.currentTarget.value)}
            />
            <TextInput mt="sm" label="Owner" value={owner} onChange={(event) => setOwner(event.currentTarget.value)} />
            <TagsInput mt="sm" label="Labels" value={labels} onChange={setLabels} />
            <Checkbox
              mt="md"
              label="Retired: takes no more versions"
              description="Only when nothing reads or writes by it."
              checked={retired}
              onChange={(event) => setRetired(event.currentTarget.checked)}
            />
            <ProblemNote problem={problemOf(saving.error)} />
            <Group mt="md" justify="flex-end">
              <Button type="submit" disabled={same} loading={saving.isPending}>
                Save
              </Button>
            </Group>
          </div>
        </section>
      </form>
      <div>
        <Uses schema={schema} />
        <section className="sheet" aria-label="Delete" style={{ marginTop: 16 }}>
          <h2>Delete</h2>
          <div style={{ padding: 16 }}>
            <p style={{ marginTop: 0 }}>
              All versions go, for ever. Records written by them show as the bytes that are stored. What uses the schema
              is named first.
            </p>
            <Button variant="default" c="apricot.8" onClick={() => setDeleting(true)}>
              Delete the schema
            </Button>
          </div>
        </section>
      </div>
      {deleting && <Removal name={schema.name} onClose={() => setDeleting(false)} />}
    </div>
  );
}

function Uses({ schema }: { schema: Schema }) {
  const { topics, written_by, read_by, readers, schemas } = schema.uses;
  const none = topics.length + schemas.length === 0;
  const names = (label: string, list: string[]) =>
    list.length > 0 && (
      <p>
        <strong>{label}</strong> {list.join(', ')}
      </p>
    );
  return (
    <section className="sheet" aria-label="Uses">
      <h2>Who writes and reads by it</h2>
      <div style={{ padding: '2px 16px 10px', overflowWrap: 'anywhere' }}>
        {none && <p className="quiet">Nothing. Bind a topic to it in the topic’s settings.</p>}
        {topics.map((bound) => (
          <p key={`${bound.topic} ${bound.role}`}>
            <strong>{bound.role === 'key' ? 'Keys of' : 'Values of'}</strong>{' '}
            <Link to={`/topics/${encodeURIComponent(bound.topic)}/settings`}>{bound.topic}</Link>
            {bound.required && ', required'}
          </p>
        ))}
        {names('Written by', written_by)}
        {names('Read by', read_by)}
        {names('Readers', readers)}
        {names('Named in the schemas', schemas)}
      </div>
    </section>
  );
}

function Removal({ name, onClose }: { name: string; onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <ConfirmPlan
      title="Delete the schema"
      name={name}
      action="Delete the schema"
      look={() => deleteSchema(name, null) as Promise<Plan>}
      carryOut={(tag) => deleteSchema(name, tag)}
      onDone={() => {
        void queries.invalidateQueries({ queryKey: ['schemas'] });
        void navigate('/schemas');
      }}
      onClose={onClose}
    />
  );
}
