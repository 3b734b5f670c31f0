import { Button, Group, NumberInput, Select, Table, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';

import { problemOf, type Plan } from '../../api/client';
import { Dialog } from '../Dialog';
import { count, counted } from '../format';
import { useLiveConnectors } from '../liveConnectors';
import { ProblemNote } from '../ProblemNote';
import { readersQuery, reposition, type Reader, type Target } from './readersQueries';

const KINDS = [
  { value: 'earliest', label: 'the oldest kept record' },
  { value: 'latest', label: 'after the newest record' },
  { value: 'time', label: 'a time' },
  { value: 'offset', label: 'an offset' },
  { value: 'by', label: 'so many records further on, or back' },
  { value: 'connector', label: 'where a sink stands' },
];

const AGREED = { value: 'agreed', label: 'where target and log agree' };

interface Asked {
  target: Target;
  topic: string | null;
  partition: number | null;
}

interface MovingProps {
  /** Who is moved: `the reader weights`. */
  what: string;
  /** Where it stands. */
  stands: { topic: string; partition: number }[];
  topic?: string;
  partition?: number;
  /** Why it cannot be moved now. */
  blocked?: ReactNode;
  /** Whether what a move does can be seen all the same. */
  seenAnyway?: boolean;
  /** Whether the target may have other records than the log; `parted` if it has. */
  target?: 'agrees' | 'parted';
  /** Asks what a move does; with the tag of that, carries it out. */
  send: (asked: Asked, tag: string | null) => Promise<Plan>;
  onMoved: () => void;
  onClose: () => void;
}

/** Moves a reader. */
export function Repositioning({
  reader,
  topic,
  partition,
  onClose,
}: {
  reader: Reader;
  topic?: string;
  partition?: number;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  return (
    <Moving
      what={`the reader ${reader.name}`}
      stands={reader.positions}
      topic={topic}
      partition={partition}
      blocked={
        reader.members.length > 0 && (
          <>
            Members are active ({reader.members.map((m) => m.label).join(', ')}). Stop them first: a reader is moved
            only while no one reads.
          </>
        )
      }
      send={(asked, tag) => reposition(reader.name, asked, tag)}
      onMoved={() => void queries.invalidateQueries({ queryKey: readersQuery.queryKey })}
      onClose={onClose}
    />
  );
}

/** Moves whoever stands in partitions: shows first what each would skip or read again, then does exactly that. */
export function Moving({
  what,
  stands,
  topic,
  partition,
  blocked,
  seenAnyway,
  target,
  send,
  onMoved,
  onClose,
}: MovingProps) {
  const [kind, setKind] = useState(target === 'parted' ? 'agreed' : 'earliest');
  const [time, setTime] = useState('');
  const [number, setNumber] = useState<number | string>('');
  const [sink, setSink] = useState<string | null>(null);
  const sinks = (useLiveConnectors().connectors ?? []).filter((c) => c.kind === 'sink');
  const [where, setWhere] = useState(partition === undefined ? 'all' : String(partition));
  const [shown, setShown] = useState<Plan | null>(null);
  const asked = {
    target: targetOf(kind, time, number, sink),
    topic: topic ?? null,
    partition: where === 'all' ? null : Number(where),
  };
  const look = useMutation({ mutationFn: () => send(asked, null), onSuccess: setShown });
  const move = useMutation({
    mutationFn: (tag: string) => send(asked, tag),
    onError: () => setShown(null),
    onSuccess: () => {
      onMoved();
      onClose();
    },
  });
  // what was shown belongs to what was asked for then
  const change = (then: () => void) => {
    then();
    setShown(null);
    move.reset();
  };
  const partitions = [...new Set(stands.filter((p) => !topic || p.topic === topic).map((p) => p.partition))];
  const active = Boolean(blocked);
  const given: Partial<Record<string, unknown>> = { time, offset: number, by: number, connector: sink ?? '' };
  const ready = given[kind] !== '';
  return (
    <Dialog opened onClose={onClose} title={`Move ${what}`}>
      {blocked && <div className="note">{blocked}</div>}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          look.mutate();
        }}
      >
        <Group align="flex-end" gap="sm">
          <Select
            label="To"
            w={270}
            data={target ? [AGREED, ...KINDS] : KINDS}
            value={kind}
            onChange={(value) => change(() => setKind(value ?? 'earliest'))}
            data-autofocus
          />
          {kind === 'time' && (
            <TextInput
              label="Time"
              type="datetime-local"
              step={1}
              value={time}
              onChange={(event) => {
                const text = event.currentTarget.value;
                change(() => setTime(text));
              }}
            />
          )}
          {(kind === 'offset' || kind === 'by') && (
            <NumberInput
              label={kind === 'offset' ? 'Offset' : 'Records'}
              w={130}
              hideControls
              allowDecimal={false}
              min={kind === 'offset' ? 0 : undefined}
              value={number}
              onChange={(value) => change(() => setNumber(value))}
            />
          )}
          {kind === 'connector' && (
            <Select
              label="Sink"
              w={200}
              searchable
              placeholder="a sink connector"
              data={sinks.map((c) => ({ value: c.id, label: c.name }))}
              value={sink}
              onChange={(value) => change(() => setSink(value))}
            />
          )}
          <Select
            label="In"
            w={150}
            data={[
              { value: 'all', label: 'all partitions' },
              ...partitions.map((p) => ({ value: String(p), label: `partition ${p}` })),
            ]}
            value={where}
            onChange={(value) => change(() => setWhere(value ?? 'all'))}
          />
          <Button type="submit" variant="default" loading={look.isPending} disabled={!ready || (active && !seenAnyway)}>
            Show what this does
          </Button>
        </Group>
      </form>
      <div style={{ marginTop: 14 }}>
        <ProblemNote problem={problemOf(look.error ?? move.error)} />
      </div>
      {shown && (
        <>
          <Table aria-label="What the move does">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Partition</Table.Th>
                <Table.Th ta="right">From</Table.Th>
                <Table.Th ta="right">To</Table.Th>
                <Table.Th ta="right">Skipped</Table.Th>
                <Table.Th ta="right">Read again</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {shown.moves.map((m) => (
                <Table.Tr key={`${m.topic} ${m.partition}`}>
                  <Table.Td>
                    {m.topic} {m.partition}
                  </Table.Td>
                  <Table.Td className="number">{count(m.from)}</Table.Td>
                  <Table.Td className="number">{count(m.to)}</Table.Td>
                  <Table.Td className="number">{count(m.skipped)}</Table.Td>
                  <Table.Td className="number">{count(m.repeated)}</Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
          <p>
            {shown.records > 0 && `${counted(shown.records, 'record')} would never be read. `}
            {shown.repeated > 0 && `${counted(shown.repeated, 'record')} would be read once more. `}
            {shown.records + shown.repeated === 0 && 'Nothing is skipped or read again.'}
          </p>
          <Group justify="flex-end">
            <Button variant="default" onClick={onClose}>
              Leave it
            </Button>
            <Button loading={move.isPending} disabled={active} onClick={() => move.mutate(shown.tag)}>
              Move {what}
            </Button>
          </Group>
        </>
      )}
    </Dialog>
  );
}

function targetOf(kind: string, time: string, number: number | string, sink: string | null): Target {
  switch (kind) {
    case 'time':
      return { to: 'time', time: time === '' ? '' : new Date(time).toISOString() };
    case 'offset':
      return { to: 'offset', offset: Number(number) };
    case 'by':
      return { to: 'by', records: Number(number) };
    case 'connector':
      return { to: 'connector', connector: sink ?? '' };
    case 'agreed':
      return { to: 'agreed' };
    case 'latest':
      return { to: 'latest' };
    default:
      return { to: 'earliest' };
  }
}
