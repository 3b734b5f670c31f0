import { useEffect, useState } from 'react';

import { problemOf, readEvents, type Problem, type Schemas } from '../../api/client';
import { parseExact } from '../../shared/exact';
import type { TopicRecord } from './topicsQueries';

export interface Search {
  found: TopicRecord[];
  progress: Schemas['SearchProgress'] | null;
  running: boolean;
  /** Whether it was ended by its user before it was done. */
  stopped: boolean;
  problem: Problem | null;
}

const NOTHING: Search = { found: [], progress: null, running: false, stopped: false, problem: null };

/** Searches while mounted; shows how far it is, and ends when told to. */
export function useSearch(url: string | null): Search & { stop: () => void } {
  const [state, setState] = useState<Search & { url: string | null }>({ ...NOTHING, url: null });
  const [ended, setEnded] = useState<string | null>(null);
  useEffect(() => {
    if (url === null || ended === url) return;
    const abort = new AbortController();
    const change = (then: (before: Search) => Partial<Search>) =>
      setState((before) => {
        const own = before.url === url ? before : { ...NOTHING, running: true, url };
        return { ...own, ...then(own) };
      });
    const take = (name: string, data: string) => {
      if (name === 'record') {
        const record = parseExact(data) as TopicRecord;
        change((before) => ({ found: [...before.found, record] }));
      } else if (name === 'progress') {
        const progress = JSON.parse(data) as Schemas['SearchProgress'];
        change(() => ({ progress, running: !progress.done }));
      } else if (name === 'problem') {
        change(() => ({ running: false, problem: JSON.parse(data) as Problem }));
      }
    };
    readEvents(url, abort.signal, take).catch((error: unknown) => {
      if (!abort.signal.aborted) change(() => ({ running: false, problem: problemOf(error) }));
    });
    return () => abort.abort();
  }, [url, ended]);
  const stop = () => {
    setEnded(url);
    setState((before) => ({ ...before, url, running: false, stopped: true }));
  };
  const begun = { ...NOTHING, running: true };
  return { ...(url === null ? NOTHING : state.url === url ? state : begun), stop };
}
