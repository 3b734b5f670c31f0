import { useQuery, useQueryClient } from '@tanstack/react-query';
import { createContext, useContext, useEffect, useMemo, useState, type ReactNode } from 'react';

import { answered, api, everything, problemOf, type Problem, type Schemas } from '../api/client';
import { useEvents } from './useEvents';

export type Connector = Schemas['Connector'];

interface Live {
  /** All connectors as last heard of; undefined until the first answer. */
  connectors: Connector[] | undefined;
  problem: Problem | null;
  /** Whether Gonvel has stopped answering. */
  lost: boolean;
  held: boolean;
  hold: (held: boolean) => void;
}

const Context = createContext<Live>({ connectors: undefined, problem: null, lost: false, held: false, hold: () => {} });

const QUERY = {
  queryKey: ['connectors'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/connectors', { params: { query } }))),
};

/** One stream of events for the whole page keeps the connectors current, unless the reader holds them still. */
export function LiveConnectors({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [held, hold] = useState(false);
  const seen = useSeen();
  const [open, setOpen] = useState(true);
  const fallback = useQuery({ ...QUERY, refetchInterval: open ? false : 2_000, enabled: !held });
  const take = (data: Connector[]) => {
    if (!held) queries.setQueryData(QUERY.queryKey, data);
  };
  useEvents(seen ? '/api/v1/live/connectors' : null, { connectors: take }, setOpen);
  const live = useMemo(
    () => ({
      connectors: fallback.data,
      problem: fallback.data === undefined ? problemOf(fallback.error) : null,
      lost: !open && fallback.isError,
      held,
      hold,
    }),
    [fallback.data, fallback.error, fallback.isError, open, held],
  );
  return <Context value={live}>{children}</Context>;
}

export function useLiveConnectors(): Live {
  return useContext(Context);
}

/** Whether this page is in sight: a browser has few connections per server, and a hidden page needs none. */
function useSeen(): boolean {
  const [seen, setSeen] = useState(() => !document.hidden);
  useEffect(() => {
    const look = () => setSeen(!document.hidden);
    document.addEventListener('visibilitychange', look);
    return () => document.removeEventListener('visibilitychange', look);
  }, []);
  return seen;
}
