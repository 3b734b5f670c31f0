import { Button, FileInput, Group, SegmentedControl, Select, TagsInput, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { faultOf, fieldOf, problemOf, WHO, type Schemas } from '../../api/client';
import { connectionsQuery } from '../../shared/connections/connectionsQueries';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { SchemaText } from '../../shared/SchemaText';
import { topicsQuery } from '../../shared/topicsQuery';
import { RuleForm } from './RuleForm';
import { References } from './References';
import { createSchema, infer, type Language, type Reference, type Rule } from './schemasQueries';
import { BEGINNINGS, LANGUAGES } from './words';

/** A new schema: written, or inferred from what is there. */
export function NewSchemaPage() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState('');
  const [language, setLanguage] = useState<Language>('avro');
  const [text, setText] = useState(BEGINNINGS.avro);
  const [rule, setRule] = useState<Rule>({ reads_past: 'latest', past_reads: 'off' });
  const [description, setDescription] = useState('');
  const [owner, setOwner] = useState('');
  const [labels, setLabels] = useState<string[]>([]);
  const [references, setReferences] = useState<Reference[]>([]);
  const making = useMutation({
    mutationFn: () =>
      createSchema({
        name,
        language,
        text,
        rule,
        description,
        owner,
        labels,
        author: localStorage.getItem(WHO) || 'the console',
        references,
      }),
    onSuccess: (schema) => {
      void queries.invalidateQueries({ queryKey: ['schemas'] });
      void navigate(`/schemas/${encodeURIComponent(schema.name)}`);
    },
  });
  const problem = problemOf(making.error);
  const fault = faultOf(problem);
  const choose = (next: Language) => {
    if (text === BEGINNINGS[language]) setText(BEGINNINGS[next]);
    setLanguage(next);
    setReferences([]);
  };
  return (
    <form
      className="page"
      onSubmit={(event) => {
        event.preventDefault();
        making.mutate();
      }}
    >
      <Heading
        title="Register a schema"
        says="Its first version. From the second on, each is checked by the rule."
        action={
          <Button type="submit" loading={making.isPending} disabled={name === ''}>
            Register
          </Button>
        }
      />
      <ProblemNote problem={fault || fieldOf(problem) === 'name' ? null : problem} />
      <div className="building drafting">
        <section className="sheet" aria-label="Text">
          <h2>Text</h2>
          <div className="tools">
            <TextInput
              label="Name"
              w={300}
              value={name}
              onChange={(event) => setName(event.currentTarget.value)}
              error={fieldOf(problem) === 'name' ? problem?.detail : undefined}
              autoComplete="off"
              autoFocus
            />
            <div>
              <div className="choice-label" id="language">
                Language
              </div>
              <SegmentedControl
                size="xs"
                aria-labelledby="language"
                data={LANGUAGES.map((l) => ({ ...l }))}
                value={language}
                onChange={(next) => choose(next as Language)}
              />
            </div>
          </div>
          <SchemaText label="Text of the schema" language={language} text={text} fault={fault} onType={setText} />
        </section>
        <div className="aside">
          {language !== 'protobuf' && <Infer language={language} name={name} onText={setText} />}
          <References language={language} own={name} references={references} onChange={setReferences} />
          <section className="sheet" aria-label="Rule">
            <h2>Rule for new versions</h2>
            <div style={{ padding: 16 }}>
              <RuleForm rule={rule} onChange={setRule} />
            </div>
          </section>
          <section className="sheet" aria-label="What is said of it">
            <h2>What is said of it</h2>
            <div style={{ padding: 16 }}>
              <Textarea
                label="Description"
                autosize
                value={description}
                onChange={(event) => setDescription(event.currentTarget.value)}
              />
              <TextInput
                mt="sm"
                label="Owner"
                value={owner}
                onChange={(event) => setOwner(event.currentTarget.value)}
              />
              <TagsInput mt="sm" label="Labels" value={labels} onChange={setLabels} />
            </div>
          </section>
        </div>
      </div>
    </form>
  );
}

type Kind = 'topic' | 'sample' | 'table';

/** Fills the text from data that is there. */
function Infer({ language, name, onText }: { language: Language; name: string; onText: (text: string) => void }) {
  const [kind, setKind] = useState<Kind>('topic');
  const [topic, setTopic] = useState<string | null>(null);
  const [file, setFile] = useState<File | null>(null);
  const [connection, setConnection] = useState<string | null>(null);
  const [table, setTable] = useState('');
  const topics = useQuery(topicsQuery);
  const connections = useQuery(connectionsQuery);
  const inferring = useMutation({
    mutationFn: async () => {
      const usual = connections.data?.find((c) => c.id === connection)?.usual_schema ?? '';
      const [schema = '', plain = ''] = table.includes('.') ? table.split('.', 2) : [usual, table];
      const from: Schemas['InferSource'] =
        kind === 'topic'
          ? { topic: { name: topic ?? '' } }
          : kind === 'sample'
            ? { sample: (await file?.text()) ?? '' }
            : { table: { connection: connection ?? '', schema, table: plain } };
      return infer({ language, name, from });
    },
    onSuccess: (found) => onText(`${found.text}\n`),
  });
  const ready = { topic: topic !== null, sample: file !== null, table: connection !== null && table !== '' }[kind];
  return (
    <section className="sheet" aria-label="From data">
      <h2>From data</h2>
      <div style={{ padding: 16 }}>
        <SegmentedControl
          size="xs"
          fullWidth
          aria-label="What to infer from"
          data={[
            { value: 'topic', label: 'A topic' },
            { value: 'sample', label: 'A file' },
            { value: 'table', label: 'A table' },
          ]}
          value={kind}
          onChange={(next) => setKind(next as Kind)}
        />
        {kind === 'topic' && (
          <Select
            mt="sm"
            label="Topic"
            description="Its newest 1,000 values are looked at."
            searchable
            limit={100}
            data={(topics.data ?? []).map((t) => t.name)}
            value={topic}
            onChange={setTopic}
          />
        )}
        {kind === 'sample' && (
          <FileInput
            mt="sm"
            label="File"
            description="A JSON list, or a value on each line."
            accept=".json,.jsonl,.ndjson"
            value={file}
            onChange={setFile}
          />
        )}
        {kind === 'table' && (
          <>
            <Select
              mt="sm"
              label="Connection"
              data={(connections.data ?? []).map((c) => ({ value: c.id, label: c.name }))}
              value={connection}
              onChange={setConnection}
            />
            <TextInput
              mt="sm"
              label="Table"
              description="As schema.table; public if no schema is given."
              value={table}
              onChange={(event) => setTable(event.currentTarget.value)}
            />
          </>
        )}
        <ProblemNote problem={problemOf(inferring.error)} />
        <Group mt="sm" justify="space-between">
          <span className="quiet" role="status">
            {inferring.data &&
              (inferring.data.values == null ? 'Taken from its columns' : `${inferring.data.values} values`)}
          </span>
          <Button variant="default" disabled={!ready} loading={inferring.isPending} onClick={() => inferring.mutate()}>
            Infer
          </Button>
        </Group>
      </div>
    </section>
  );
}
