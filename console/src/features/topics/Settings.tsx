import { Button, Group, NumberInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { problemOf, type Schemas, fieldOf } from '../../api/client';
import { ConfirmByName } from '../../shared/ConfirmByName';
import { bytes, count, counted } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { Bindings } from './Bindings';
import { KeepForm } from './KeepForm';
import {
  addPartitions,
  changeTopic,
  deletePreviewQuery,
  deleteTopic,
  previewChange,
  topicQuery,
  type Topic,
} from './topicsQueries';
import { topicsQuery } from '../../shared/topicsQuery';

type Preview = Schemas['ChangePreview'];

/** What a topic keeps, how many partitions it has, and its end. */
export function Settings({ topic }: { topic: Topic }) {
  const [deleting, setDeleting] = useState(false);
  return (
    <div className="stages">
      <section className="sheet" aria-label="What it keeps">
        <h2>What it keeps</h2>
        <div style={{ padding: 16 }}>
          <Keeping key={topic.revision} topic={topic} />
        </div>
      </section>
      <div>
        <section className="sheet" aria-label="Partitions" style={{ marginBottom: 16 }}>
          <h2>Partitions</h2>
          <div style={{ padding: 16 }}>
            <More key={topic.partitions} topic={topic} />
          </div>
        </section>
        <Bindings name={topic.name} />
        <section className="sheet" aria-label="Delete">
          <h2>Delete</h2>
          <div style={{ padding: 16 }}>
            <p style={{ marginTop: 0 }}>All records go, for ever. What uses the topic is named first.</p>
            <Button variant="default" c="apricot.8" onClick={() => setDeleting(true)}>
              Delete the topic
            </Button>
          </div>
        </section>
      </div>
      {deleting && <Removal name={topic.name} onClose={() => setDeleting(false)} />}
    </div>
  );
}

function Keeping({ topic }: { topic: Topic }) {
  const queries = useQueryClient();
  const [settings, setSettings] = useState(topic.settings);
  const [preview, setPreview] = useState<Preview | null>(null);
  const look = useMutation({ mutationFn: () => previewChange(topic.name, settings), onSuccess: setPreview });
  const save = useMutation({
    mutationFn: () => changeTopic(topic.name, topic.revision, settings),
    onSuccess: (changed) => queries.setQueryData(topicQuery(topic.name).queryKey, changed),
  });
  const changed = JSON.stringify(settings) !== JSON.stringify(topic.settings);
  const problem = problemOf(look.error ?? save.error);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        look.mutate();
      }}
    >
      <KeepForm
        settings={settings}
        problem={problem}
        onChange={(next) => {
          setSettings(next);
          setPreview(null);
          look.reset();
        }}
      />
      <div style={{ marginTop: 14 }}>
        <ProblemNote
          problem={fieldOf(problem)?.endsWith('_ms') || fieldOf(problem) === 'most_bytes' ? null : problem}
        />
      </div>
      {preview && <WhatGoes preview={preview} />}
      <Group mt="md">
        {preview === null ? (
          <Button type="submit" variant="default" disabled={!changed} loading={look.isPending}>
            Show what this removes
          </Button>
        ) : (
          <Button
            color={preview.records > 0 || preview.notes.length > 0 ? 'apricot.8' : undefined}
            loading={save.isPending}
            onClick={() => save.mutate()}
          >
            {preview.records > 0 ? `Save, and forget ${counted(preview.records, 'record')}` : 'Save'}
          </Button>
        )}
        {changed && (
          <Button
            variant="subtle"
            onClick={() => {
              setSettings(topic.settings);
              setPreview(null);
            }}
          >
            As before
          </Button>
        )}
      </Group>
    </form>
  );
}

function WhatGoes({ preview }: { preview: Preview }) {
  return (
    <div className={preview.records > 0 ? 'note' : 'note well'}>
      {preview.records === 0 ? (
        <strong>No record would be forgotten now.</strong>
      ) : (
        <>
          <strong>
            {counted(preview.records, 'record')} ({bytes(preview.bytes)}) would be forgotten within a minute.
          </strong>
          {preview.partitions.map((p) => (
            <div key={p.partition}>
              partition {p.partition}: all before offset {count(p.before_offset)}, {counted(p.records, 'record')}
            </div>
          ))}
        </>
      )}
      {preview.notes.map((note) => (
        <div key={note}>{note}</div>
      ))}
    </div>
  );
}

function More({ topic }: { topic: Topic }) {
  const queries = useQueryClient();
  const [wanted, setWanted] = useState<number | string>(topic.partitions + 1);
  const [asking, setAsking] = useState(false);
  const adding = useMutation({
    mutationFn: () => addPartitions(topic.name, Number(wanted)),
    onSuccess: (grown) => queries.setQueryData(topicQuery(topic.name).queryKey, grown),
  });
  const users = [...topic.written_by, ...topic.read_by];
  return (
    <>
      <p style={{ marginTop: 0 }}>
        It has {count(topic.partitions)}. Partitions can be added, never taken away: a key belongs to one partition, and
        which one follows from how many there are.
      </p>
      <Group align="flex-end">
        <NumberInput
          label="Have"
          w={110}
          min={topic.partitions + 1}
          max={1000}
          allowDecimal={false}
          value={wanted}
          onChange={setWanted}
        />
        <Button variant="default" disabled={Number(wanted) <= topic.partitions} onClick={() => setAsking(true)}>
          Add partitions
        </Button>
      </Group>
      {asking && (
        <div className="note" style={{ marginTop: 14 }}>
          <strong>Most keys go to another partition from then on.</strong> A reader may see a key’s new records before
          its older ones: within a partition the order holds, across the change it does not.
          {users.length > 0 && ` ${users.join(', ')} start anew from where they stand.`}
          <Group mt="sm">
            <Button color="apricot.8" size="compact-sm" loading={adding.isPending} onClick={() => adding.mutate()}>
              Have {wanted} partitions
            </Button>
            <Button variant="subtle" size="compact-sm" onClick={() => setAsking(false)}>
              Leave it
            </Button>
          </Group>
        </div>
      )}
      <ProblemNote problem={problemOf(adding.error)} />
    </>
  );
}

function Removal({ name, onClose }: { name: string; onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const preview = useQuery(deletePreviewQuery(name));
  const removal = useMutation({
    mutationFn: () => deleteTopic(name),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: topicsQuery.queryKey });
      void navigate('/topics');
    },
  });
  const found = preview.data;
  const list = (names: string[]) => (names.length > 0 ? names.join(', ') : 'no connector');
  return (
    <ConfirmByName
      name={name}
      title="Delete a topic"
      action="Delete the topic"
      problem={problemOf(removal.error ?? preview.error)}
      busy={removal.isPending}
      onClose={onClose}
      onConfirm={() => removal.mutate()}
    >
      {found && (
        <>
          <p>
            {counted(found.records, 'record')} ({bytes(found.bytes)}) would be lost for ever.
          </p>
          <ul>
            <li>written by {list(found.written_by)}</li>
            <li>delivered by {list(found.read_by)}</li>
            <li>readers: {list(found.readers)}</li>
          </ul>
          {found.written_by.length + found.read_by.length > 0 && (
            <p>A topic that connectors use cannot be deleted: delete or change them first.</p>
          )}
        </>
      )}
    </ConfirmByName>
  );
}
