import { Button, Checkbox, FileButton, Group, Menu, PasswordInput } from '@mantine/core';
import { useDebouncedValue, useSessionStorage } from '@mantine/hooks';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState, type DragEvent } from 'react';

import { problemOf } from '../../api/client';
import { exportUrl } from '../../shared/exporting';
import { ConfirmByName } from '../../shared/ConfirmByName';
import { count } from '../../shared/format';
import { LinedText } from '../../shared/LinedText';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { cancel, operationQuery } from '../../shared/operations/operations';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { counted, KINDS, sent, source, toAsk, TYPED, withSecret, type File, type Secrets } from './manifests';
import { apply, comparePlan, written } from './manifestsQueries';
import { Steps } from './Steps';

/** An installation as text: what manifests would change here, and making it so. */
export function ManifestsPage() {
  const queries = useQueryClient();
  // what was typed is there again when one comes back to the page; secrets are not
  const [text, setText] = useSessionStorage({ key: 'gonvel.manifests', defaultValue: '' });
  const [added, setAdded] = useState<File[]>([]);
  const [prune, setPrune] = useState(false);
  const [given, setGiven] = useState<Secrets>({});
  // what was begun goes on without this page, and is there again when one comes back to it
  const [begun, setBegun] = useSessionStorage<string | null>({ key: 'gonvel.applied', defaultValue: null });
  const [asks, setAsks] = useState(false);
  const [over, setOver] = useState(false);
  const kept = useKeptCurrent('operation');
  const { data: applied } = useQuery({ ...operationQuery(begun ?? ''), ...kept, enabled: begun !== null });
  const outcomes = applied?.result.steps ?? [];
  const running = applied?.state === 'running';

  const files = [...(text.trim() === '' ? [] : [{ name: TYPED, text }]), ...added];
  const secrets = sent(given);
  const [compared] = useDebouncedValue({ files, prune, secrets }, 400);
  const plan = useQuery({
    queryKey: ['manifests', compared],
    queryFn: () => comparePlan(compared.files, compared.prune, compared.secrets),
    enabled: compared.files.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
    // what does not answer is asked again by itself
    refetchInterval: (query) => (query.state.status === 'error' ? 3_000 : false),
  });
  const current = compared.files.length > 0 ? plan.data : undefined;
  const load = useMutation({ mutationFn: written, onSuccess: setText });
  const carry = useMutation({
    mutationFn: () => {
      setAsks(false);
      return apply(files, prune, secrets, current?.tag ?? '');
    },
    onSuccess: (operation) => {
      queries.setQueryData(operationQuery(operation.id).queryKey, operation);
      setBegun(operation.id);
    },
  });
  const ending = useMutation({ mutationFn: cancel });
  // what it did stands in every list
  useEffect(() => {
    if (applied && !running) void queries.invalidateQueries();
  }, [applied?.state]); // eslint-disable-line react-hooks/exhaustive-deps -- once when it ends
  const add = async (chosen: globalThis.File[]) => {
    const read = await Promise.all(chosen.map(async (file) => ({ name: file.name, text: await file.text() })));
    setAdded((before) => [...before.filter((file) => !read.some((other) => other.name === file.name)), ...read]);
    if (!running) setBegun(null);
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    void add([...event.dataTransfer.files]);
  };

  const steps = current?.steps ?? [];
  const faults = current?.faults ?? [];
  const { make, change, delete: gone } = counted(steps);
  const asked = toAsk(current, given);
  const missing = asked.filter((secret) => secret.needed);
  const ready = steps.length > 0 && missing.length === 0 && !plan.isFetching && !carry.isPending && !running;
  const removed = steps.filter((step) => step.deed === 'delete');
  return (
    <div className="page">
      <Heading
        title="Manifests"
        says="Connections, functions, schemas, topics, connectors and readers as text: what it would change here, and making it so."
        action={
          <Group gap="xs">
            <Menu position="bottom-end">
              <Menu.Target>
                <Button variant="default">Export</Button>
              </Menu.Target>
              <Menu.Dropdown>
                <Menu.Item component="a" href={exportUrl()} download="installation.yaml">
                  Everything
                </Menu.Item>
                {KINDS.map((kind) => (
                  <Menu.Item key={kind} component="a" href={exportUrl(kind)} download={`${kind}s.yaml`}>
                    Only {kind}s
                  </Menu.Item>
                ))}
              </Menu.Dropdown>
            </Menu>
            <Button
              disabled={!ready}
              loading={carry.isPending || running}
              onClick={() => (removed.length > 0 ? setAsks(true) : carry.mutate())}
            >
              Apply
            </Button>
          </Group>
        }
      />
      <div className="manifests">
        <section
          className="sheet manifest"
          aria-label="What is to be"
          data-over={over || undefined}
          onDragOver={(event) => {
            event.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={drop}
        >
          <Group justify="space-between" mb="xs">
            <Group gap="xs">
              <FileButton multiple accept=".yaml,.yml" onChange={(chosen) => void add(chosen)}>
                {(props) => (
                  <Button size="compact-sm" variant="default" {...props}>
                    Add files
                  </Button>
                )}
              </FileButton>
              <Button size="compact-sm" variant="default" loading={load.isPending} onClick={() => load.mutate()}>
                Begin with what is here
              </Button>
            </Group>
            <Checkbox
              label="Delete what is not named"
              checked={prune}
              onChange={(event) => setPrune(event.currentTarget.checked)}
            />
          </Group>
          <ProblemNote problem={problemOf(load.error)} />
          {added.length > 0 && (
            <ul className="addedfiles">
              {added.map((file) => (
                <li key={file.name}>
                  <span className="mono">{file.name}</span>
                  <Button
                    size="compact-xs"
                    variant="subtle"
                    aria-label={`Take ${file.name} out`}
                    onClick={() => setAdded((before) => before.filter((other) => other !== file))}
                  >
                    Take out
                  </Button>
                </li>
              ))}
            </ul>
          )}
          {asked.map((secret) => (
            <PasswordInput
              key={`${secret.connection} ${secret.field}`}
              mb="xs"
              label={`${secret.field === 'password' ? 'Password' : 'Password of the log’s login'} of ${secret.connection}`}
              description={source(secret)}
              autoComplete="off"
              value={given[secret.connection]?.[secret.field] ?? ''}
              onChange={(event) => {
                const typed = event.currentTarget.value;
                setGiven((before) => withSecret(before, secret, typed));
              }}
            />
          ))}
          <LinedText
            label="Manifests"
            text={text}
            wrong={faults.filter((fault) => fault.file === TYPED).map((fault) => fault.line)}
            placeholder={EXAMPLE}
            onType={(next) => {
              setText(next);
              if (!running) setBegun(null);
            }}
          />
        </section>
        <section className="sheet changes" aria-label="What that changes here" aria-live="polite">
          <ProblemNote problem={problemOf(plan.error) ?? problemOf(carry.error) ?? problemOf(ending.error)} />
          {files.length === 0 ? (
            <p className="empty">
              Type or paste manifests, add files, or drop them here: what they change is shown as you type. Nothing is
              done before you apply it.
            </p>
          ) : (
            <>
              {faults.length > 0 ? (
                <div className="note" role="alert">
                  <strong>
                    {count(faults.length)} {faults.length === 1 ? 'fault' : 'faults'}: nothing is applied.
                  </strong>
                  <ul className="notes">
                    {faults.map((fault) => (
                      <li key={`${fault.file}:${fault.line}:${fault.column}:${fault.finding}`}>
                        <span className="mono">
                          {fault.file}, line {fault.line}:
                        </span>{' '}
                        {fault.finding}
                      </li>
                    ))}
                  </ul>
                </div>
              ) : (
                current && (
                  <div className="figures">
                    <Figure label="To make" value={count(make)} />
                    <Figure label="To change" value={count(change)} />
                    <Figure label="To delete" value={count(gone)} tone={gone > 0 ? 'warn' : undefined} />
                    <Figure label="As they are to be" value={count(current.unchanged)} />
                  </div>
                )
              )}
              {missing.length > 0 && (
                <p className="fault" role="alert">
                  {missing.map((secret) => secret.connection).join(', ')}: give its password first.
                </p>
              )}
              {running && (
                <Group mb="sm">
                  <span>
                    {count(applied.done)} of {count(applied.total ?? 0)} done
                  </span>
                  <Button
                    size="compact-sm"
                    variant="default"
                    loading={ending.isPending || applied.cancelling}
                    onClick={() => ending.mutate(applied.id)}
                  >
                    Stop after this step
                  </Button>
                </Group>
              )}
              {applied?.state === 'failed' && !outcomes.some((outcome) => outcome.refused) && applied.problem && (
                <ProblemNote problem={applied.problem} />
              )}
              {applied?.state === 'cancelled' && (
                <p role="status">
                  Stopped after {count(applied.done)} of {count(applied.total ?? 0)} steps.
                </p>
              )}
              <Steps steps={steps} outcomes={outcomes} />
            </>
          )}
        </section>
      </div>
      {asks && removed[0] && (
        <ConfirmByName
          name={removed[0].name}
          title={`${count(removed.length)} to delete`}
          action="Apply and delete"
          problem={null}
          busy={carry.isPending}
          onClose={() => setAsks(false)}
          onConfirm={() => carry.mutate()}
        >
          <Steps steps={removed} outcomes={[]} />
        </ConfirmByName>
      )}
    </div>
  );
}

const EXAMPLE = `topic: coldstore.readings
partitions: 3
---
reader: night-watch
topics: [coldstore.readings]`;
