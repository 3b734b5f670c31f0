import { Button, NumberInput, SegmentedControl, Select, TextInput } from '@mantine/core';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { count } from '../../shared/format';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';
import { useEvents } from '../../shared/useEvents';
import { ChangeCard } from './ChangeCard';
import { readRecords, tailUrl, type TopicRecord } from './topicsQueries';
import { changeView, readView, writeView, type View } from './view';

/** Records kept on the page while following. */
const KEPT = 200;

interface Props {
  name: string;
  partitions: Schemas['Partition'][];
}

/** The record browser: newest or oldest first, from an offset or a time, or as they come. */
export function Records({ name, partitions }: Props) {
  const [search, setSearch] = useSearchParams();
  const view = readView(search);
  const change = (part: Partial<View>) => setSearch(writeView(changeView(view, part)), { replace: true });
  const { held } = useLiveConnectors();
  const [came, setCame] = useState<TopicRecord[]>([]);
  const [skipped, setSkipped] = useState(0);
  const pages = useInfiniteQuery({
    queryKey: ['records', name, view],
    queryFn: ({ pageParam }) => readRecords(name, view, pageParam),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => last.next_offset ?? null,
    staleTime: Infinity,
  });
  useEvents(
    view.tail && !held ? tailUrl(name) : null,
    {
      records: (records: TopicRecord[]) => {
        const fresh = records.filter((r) => view.partition === null || r.partition === view.partition);
        setCame((before) => [...fresh, ...before].slice(0, KEPT));
      },
      skipped: (n: number) => setSkipped((before) => before + n),
    },
    // what was appended between the page's reading and the stream's begin would be in neither
    (open) => open && void pages.refetch(),
  );
  const read = pages.data?.pages.flatMap((p) => p.records) ?? [];
  const seen = new Set(came.map(place));
  const records = view.tail ? [...came, ...read.filter((r) => !seen.has(place(r)))] : read;
  const refresh = () => {
    setCame([]);
    setSkipped(0);
    void pages.refetch();
  };
  return (
    <div className="sheet">
      <Tools view={view} partitions={partitions} onChange={change} onRefresh={refresh} />
      <div style={{ padding: pages.error ? 16 : 0 }}>
        <ProblemNote problem={problemOf(pages.error)} />
      </div>
      {skipped > 0 && (
        <p className="quiet" style={{ padding: '0 16px' }}>
          {count(skipped)} records came faster than they can be shown and were passed over here; the topic has them all.
        </p>
      )}
      <div onKeyDown={moveInList} role="feed" aria-label="Records" aria-busy={pages.isFetching}>
        {records.map((record) => (
          <ChangeCard key={place(record)} record={record} />
        ))}
      </div>
      {!pages.isPending && records.length === 0 && !pages.error && (
        <div className="empty">
          {view.tail ? 'Waiting for the next record.' : 'No record here. Choose another partition, offset or time.'}
        </div>
      )}
      <div className="tools" style={{ borderBottom: 0 }}>
        {pages.hasNextPage ? (
          <Button variant="default" loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            {view.order === 'newest' ? 'Older records' : 'Newer records'}
          </Button>
        ) : (
          records.length > 0 && (
            <span className="quiet">
              {view.partition === null && partitions.length > 1
                ? 'These are the first of all partitions together. Choose one partition to read on.'
                : view.order === 'newest'
                  ? 'The oldest kept record is the last one here.'
                  : 'The newest record is the last one here.'}
            </span>
          )
        )}
      </div>
    </div>
  );
}

function place(record: TopicRecord): string {
  return `${record.partition}:${record.offset}`;
}

interface ToolsProps {
  view: View;
  partitions: Schemas['Partition'][];
  onChange: (part: Partial<View>) => void;
  onRefresh: () => void;
}

function Tools({ view, partitions, onChange, onRefresh }: ToolsProps) {
  const mode = view.tail ? 'tail' : view.order;
  return (
    <div className="tools">
      <SegmentedControl
        size="sm"
        aria-label="Order"
        value={mode}
        onChange={(value) =>
          onChange(value === 'tail' ? { tail: true } : { order: value as View['order'], tail: false })
        }
        data={[
          { value: 'newest', label: 'Newest first' },
          { value: 'oldest', label: 'Oldest first' },
          { value: 'tail', label: 'As they come' },
        ]}
      />
      <Select
        size="sm"
        w={138}
        aria-label="Partition"
        value={view.partition === null ? 'all' : String(view.partition)}
        onChange={(value) => onChange({ partition: value === 'all' || value === null ? null : Number(value) })}
        data={[
          { value: 'all', label: 'All partitions' },
          ...partitions.map((p) => ({ value: String(p.partition), label: `Partition ${p.partition}` })),
        ]}
        allowDeselect={false}
      />
      <From
        key={`${view.offset} ${view.time} ${view.partition}`}
        view={view}
        single={partitions.length === 1}
        onChange={onChange}
      />
      {!view.tail && (
        <Button variant="default" size="sm" onClick={onRefresh}>
          Read again
        </Button>
      )}
    </div>
  );
}

/** Where to begin: at an offset of the chosen partition, or at a time. */
function From({ view, single, onChange }: { view: View; single: boolean; onChange: (part: Partial<View>) => void }) {
  const [offset, setOffset] = useState<number | string>(view.offset ?? '');
  const [time, setTime] = useState(view.time === null ? '' : localTime(view.time));
  const partition = view.partition ?? (single ? 0 : null);
  return (
    <form
      style={{ display: 'contents' }}
      onSubmit={(event) => {
        event.preventDefault();
        if (offset !== '' && Number(offset) !== view.offset)
          onChange({ partition, offset: Number(offset), tail: false });
        else if (time !== '') onChange({ time: new Date(time).toISOString(), tail: false });
        else onChange({ offset: null, time: null });
      }}
    >
      <NumberInput
        size="sm"
        w={100}
        aria-label="From offset"
        placeholder="Offset"
        title={partition === null ? 'Offsets are counted in each partition: choose one first' : undefined}
        disabled={partition === null}
        min={0}
        hideControls
        allowDecimal={false}
        value={offset}
        onChange={(value) => {
          setOffset(value);
          if (value !== '') setTime('');
        }}
      />
      <TextInput
        size="sm"
        w={186}
        type="datetime-local"
        step={1}
        aria-label="From time"
        value={time}
        onChange={(event) => {
          setTime(event.currentTarget.value);
          if (event.currentTarget.value !== '') setOffset('');
        }}
      />
      <Button type="submit" variant="default" size="sm">
        Go
      </Button>
    </form>
  );
}

/** A time in the form of the browser's own field, in the viewer's zone. */
function localTime(time: string): string {
  const date = new Date(time);
  return new Date(date.getTime() - date.getTimezoneOffset() * 60_000).toISOString().slice(0, 19);
}
