import { Button, Group, NumberInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { fieldOf, problemOf, type Plan } from '../../api/client';
import { ConfirmPlan } from '../../shared/ConfirmPlan';
import { bytes, count, counted } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { Bindings } from './Bindings';
import { KeepForm } from './KeepForm';
import {
  addPartitions,
  changeTopic,
  deleteTopic,
  planChange,
  planPartitions,
  topicQuery,
  type Topic,
} from './topicsQueries';
import { topicsQuery } from '../../shared/topicsQuery';

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
  const [plan, setPlan] = useState<Plan | null>(null);
  const look = useMutation({
    mutationFn: () => planChange(topic.name, topic.revision, settings),
    onSuccess: setPlan,
  });
  const save = useMutation({
    mutationFn: (tag: string) => changeTopic(topic.name, topic.revision, settings, tag),
    onSuccess: (changed) => queries.setQueryData(topicQuery(topic.name).queryKey, changed),
    onError: () => setPlan(null),
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
          setPlan(null);
          look.reset();
        }}
      />
      <div style={{ marginTop: 14 }}>
        <ProblemNote
          problem={fieldOf(problem)?.endsWith('_ms') || fieldOf(problem) === 'most_bytes' ? null : problem}
        />
      </div>
      {plan && <WhatGoes plan={plan} />}
      <Group mt="md">
        {plan === null ? (
          <Button type="submit" variant="default" disabled={!changed} loading={look.isPending}>
            Show what this removes
          </Button>
        ) : (
          <Button
            color={plan.needs_confirming ? 'apricot.8' : undefined}
            loading={save.isPending}
            onClick={() => save.mutate(plan.tag)}
          >
            {plan.records > 0 ? `Save, and forget ${counted(plan.records, 'record')}` : 'Save'}
          </Button>
        )}
        {changed && (
          <Button
            variant="subtle"
            onClick={() => {
              setSettings(topic.settings);
              setPlan(null);
            }}
          >
            As before
          </Button>
        )}
      </Group>
    </form>
  );
}

function WhatGoes({ plan }: { plan: Plan }) {
  return (
    <div className={plan.needs_confirming ? 'note' : 'note well'}>
      {plan.says.length === 0 && <strong>No record would be forgotten now.</strong>}
      {plan.records > 0 && (
        <>
          <strong>
            {counted(plan.records, 'record')} ({bytes(plan.bytes)}) would be forgotten within a minute.
          </strong>
          {plan.partitions.map((p) => (
            <div key={p.partition}>
              partition {p.partition}: all before offset {count(p.before_offset)}, {counted(p.records, 'record')}
            </div>
          ))}
        </>
      )}
      {/* the first sentence is of these records */}
      {plan.says.slice(plan.records > 0 ? 1 : 0).map((line) => (
        <div key={line}>{line}</div>
      ))}
    </div>
  );
}

function More({ topic }: { topic: Topic }) {
  const queries = useQueryClient();
  const [wanted, setWanted] = useState<number | string>(topic.partitions + 1);
  const [plan, setPlan] = useState<Plan | null>(null);
  const look = useMutation({ mutationFn: () => planPartitions(topic.name, Number(wanted)), onSuccess: setPlan });
  const adding = useMutation({
    mutationFn: (tag: string) => addPartitions(topic.name, Number(wanted), tag),
    onSuccess: (grown) => queries.setQueryData(topicQuery(topic.name).queryKey, grown),
    onError: () => setPlan(null),
  });
  const users = plan?.touched.map((one) => one.name) ?? [];
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
          onChange={(value) => {
            setWanted(value);
            setPlan(null);
          }}
        />
        <Button
          variant="default"
          disabled={Number(wanted) <= topic.partitions}
          loading={look.isPending}
          onClick={() => look.mutate()}
        >
          Add partitions
        </Button>
      </Group>
      {plan && (
        <div className="note" style={{ marginTop: 14 }}>
          <strong>Most keys go to another partition from then on.</strong> A reader may see a key’s new records before
          its older ones: within a partition the order holds, across the change it does not.
          {users.length > 0 && ` ${users.join(', ')} start anew from where they stand.`}
          <Group mt="sm">
            <Button
              color="apricot.8"
              size="compact-sm"
              loading={adding.isPending}
              onClick={() => adding.mutate(plan.tag)}
            >
              Have {wanted} partitions
            </Button>
            <Button variant="subtle" size="compact-sm" onClick={() => setPlan(null)}>
              Leave it
            </Button>
          </Group>
        </div>
      )}
      <ProblemNote problem={problemOf(look.error ?? adding.error)} />
    </>
  );
}

function Removal({ name, onClose }: { name: string; onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <ConfirmPlan
      name={name}
      title="Delete a topic"
      action="Delete the topic"
      look={() => deleteTopic(name, null)}
      carryOut={(tag) => deleteTopic(name, tag)}
      onDone={() => {
        void queries.invalidateQueries({ queryKey: topicsQuery.queryKey });
        void navigate('/topics');
      }}
      onClose={onClose}
    />
  );
}
