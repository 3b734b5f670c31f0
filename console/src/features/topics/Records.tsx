import { Button } from '@mantine/core';
import { useInfiniteQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { count, counted } from '../../shared/format';
import { useLiveConnectors } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { useEvents } from '../../shared/useEvents';
import { When } from '../../shared/When';
import { place } from './place';
import { RecordList } from './RecordList';
import { RecordTools } from './RecordTools';
import { readRecords, searchUrl, tailUrl, type TopicRecord } from './topicsQueries';
import { useSearch, type Search } from './useSearch';
import { changeView, readView, writeView, type View } from './view';

/** Records kept on the page while following. */
const KEPT = 500;

interface Props {
  name: string;
  partitions: Schemas['Partition'][];
  onReuse: (record: TopicRecord) => void;
}

/** The record browser: newest or oldest first, from an offset, a time, of a key, where a condition holds, or as they come. */
export function Records({ name, partitions, onReuse }: Props) {
  const [search, setSearch] = useSearchParams();
  const view = readView(search);
  const change = (part: Partial<View>) => setSearch(writeView(changeView(view, part)), { replace: true });
  const { held } = useLiveConnectors();
  const [came, setCame] = useState<TopicRecord[]>([]);
  const [skipped, setSkipped] = useState(0);
  const searching = view.filter !== null;
  // the form changes nothing of what is read
  const asked = { ...view, form: null };
  const queries = useQueryClient();
  const queryKey = ['records', name, asked];
  const pages = useInfiniteQuery({
    queryKey,
    queryFn: ({ pageParam }) => readRecords(name, view, pageParam),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next ?? null,
    // what was read stays as it was read, until it is asked for anew
    staleTime: Infinity,
    gcTime: 0,
    enabled: !searching,
    // where nothing is yet, the first records show without being asked for
    refetchInterval: (query) =>
      !held && query.state.data?.pages.every((page) => page.items.length === 0) ? 2_000 : false,
  });
  const result = useSearch(searching ? searchUrl(name, view) : null);
  useEvents(
    view.tail && !held ? tailUrl(name) : null,
    {
      records: (records: TopicRecord[]) => {
        const fresh = records.filter((r) => view.partition === null || r.partition === view.partition);
        setCame((before) => [...fresh, ...before].slice(0, KEPT));
      },
      skipped: (n: number) => setSkipped((before) => before + n),
    },
    // what was appended between the page's reading and the stream's begin would be in neither; a reading that is under way is not waited
    // for, since it may have looked before
    (open) => open && void queries.cancelQueries({ queryKey }).then(() => pages.refetch()),
  );
  const read = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const seen = new Set(came.map(place));
  const listed = view.tail ? [...came, ...read.filter((r) => !seen.has(place(r)))] : read;
  const records = searching ? newestFirst(result.found) : listed;
  const refresh = () => {
    setCame([]);
    setSkipped(0);
    void pages.refetch();
  };
  const problem = searching ? result.problem : problemOf(pages.error);
  const empty = records.length === 0 && problem === null && !(searching ? result.running : pages.isPending);
  return (
    <div className="sheet">
      <RecordTools
        name={name}
        view={view}
        partitions={partitions}
        searching={result.running}
        onChange={change}
        onRefresh={refresh}
        onStop={result.stop}
      />
      <div style={{ padding: problem ? 16 : 0 }}>
        <ProblemNote problem={problem} />
      </div>
      {searching && <Progress search={result} />}
      {skipped > 0 && (
        <p className="quiet" style={{ padding: '0 16px' }}>
          {counted(skipped, 'record')} came faster than can be shown and {skipped === 1 ? 'was' : 'were'} passed over
          here; the topic has {skipped === 1 ? 'it' : 'them all'}.
        </p>
      )}
      <RecordList records={records} form={view.form} busy={pages.isFetching} onReuse={onReuse} />
      {empty && (
        <div className="empty">
          {searching
            ? 'The condition holds for no record.'
            : view.tail
              ? 'Waiting for the next record.'
              : view.key !== null
                ? 'No record has this key.'
                : 'No record here yet: the first ones show by themselves. Or choose another partition, offset or time.'}
        </div>
      )}
      {!searching && (
        <div className="tools" style={{ borderBottom: 0 }}>
          {pages.hasNextPage ? (
            <Button variant="default" loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
              {view.order === 'newest' ? 'Older records' : 'Newer records'}
            </Button>
          ) : (
            records.length > 0 && (
              <span className="quiet">
                {view.partition === null && view.key === null && partitions.length > 1
                  ? 'These are the first of all partitions together. Choose one partition to read on.'
                  : view.order === 'newest'
                    ? 'The oldest kept record is the last one here.'
                    : 'The newest record is the last one here.'}
              </span>
            )
          )}
        </div>
      )}
    </div>
  );
}

function newestFirst(records: TopicRecord[]): TopicRecord[] {
  return [...records].sort((a, b) => (a.timestamp < b.timestamp ? 1 : a.timestamp > b.timestamp ? -1 : 0));
}

/** How far a search is. */
function Progress({ search }: { search: Search }) {
  const { progress } = search;
  const part = progress && progress.total > 0 ? (100 * progress.searched) / progress.total : 0;
  return (
    <div style={{ padding: '10px 16px', borderBottom: '1px solid var(--hairline)' }} role="status">
      {progress === null ? (
        'Searching…'
      ) : (
        <>
          {count(progress.found)} found in {count(progress.searched)} of {counted(progress.total, 'record')}
          {progress.back_to && (
            <>
              , back to <When time={progress.back_to} />
            </>
          )}
          {search.stopped
            ? '; stopped.'
            : !progress.done
              ? ' so far.'
              : progress.searched < progress.total
                ? ': as many as are shown at once. Narrow the condition, or begin at a time further back.'
                : '.'}
        </>
      )}
      <div className="bar">
        <div style={{ width: `${part}%` }} />
      </div>
    </div>
  );
}
