import { useQuery, useQueryClient, type QueryClient, type QueryFilters } from '@tanstack/react-query';
import { createContext, useCallback, useContext, useEffect, useMemo, useRef, useState, type ReactNode } from 'react';

import { answered, api, everything, problemOf, type Problem, type Schemas } from '../api/client';
import { changed, current, told, type Change, type ObjectKind } from './changes';
import { useEvents } from './useEvents';

export type Connector = Schemas['Connector'];

interface Live {
  /** All connectors as last heard of; undefined until the first answer. */
  connectors: Connector[] | undefined;
  problem: Problem | null;
  /** Whether Gonvel has stopped answering. */
  lost: boolean;
  /** Whether changes are being told. */
  told: boolean;
  held: boolean;
  hold: (held: boolean) => void;
  /** Has changes of a kind told until what is returned is called. */
  watch: (kind: ObjectKind) => () => void;
}

const Context = createContext<Live>({
  connectors: undefined,
  problem: null,
  lost: false,
  told: false,
  held: false,
  hold: () => {},
  watch: () => () => {},
});

const QUERY = {
  queryKey: ['connectors'],
  queryFn: () =>
    current('connector', () => everything((query) => answered(api.GET('/api/v1/connectors', { params: { query } })))),
};

/** How long changes are gathered before they are shown. */
const GATHER_MS = 50;
/** How often it is asked while nothing is told. */
const FALLBACK_MS = 2_000;

/** The lists that are kept current, by the kind of what is in them. */
const LISTS: Partial<Record<ObjectKind, string>> = {
  connector: 'connectors',
  operation: 'operations',
  reader: 'readers',
  runner: 'runners',
  topic: 'topics',
};

/** Queries about one object, or of lists that are read in pieces, that are asked again when it changes. */
function hangOn(change: Change): QueryFilters[] {
  switch (change.kind) {
    case 'connection':
      return [{ queryKey: ['connections'] }];
    case 'connector':
      return [{ queryKey: ['connector', change.id, 'history'] }];
    case 'draft':
      return [{ queryKey: ['drafts'] }];
    case 'function':
      // not the one that is open: what is typed into it would be lost; whoever saves is told that another did
      return [{ queryKey: ['functions'], exact: true }, { queryKey: ['shape functions'] }];
    case 'operation':
      return [{ queryKey: ['operation', change.id], exact: true }];
    case 'runner':
      return [{ queryKey: ['runners', 'waiting'] }];
    case 'schema':
      return [{ queryKey: ['schemas'] }, { queryKey: ['schema', change.id], exact: true }];
    case 'topic':
      return [{ queryKey: ['topic', change.id], exact: true }];
    case 'reader':
      return [];
  }
}

/** What is shown of objects, by the first word of its query: what else a page asks for does not hang on changes. */
const OF_OBJECTS = new Set<unknown>([
  ...Object.values(LISTS),
  'connections',
  'connector',
  'drafts',
  'functions',
  'operation',
  'schema',
  'schemas',
  'shape functions',
  'topic',
]);

function show(queries: QueryClient, changes: Change[]) {
  told(changes);
  for (const [kind, list] of Object.entries(LISTS)) {
    const of = changes.filter((change) => change.kind === kind);
    if (of.length === 0) continue;
    queries.setQueryData<{ name: string }[]>([list], (before) => before && changed(before, of));
  }
  const again = new Map(changes.flatMap(hangOn).map((filter) => [JSON.stringify(filter), filter]));
  for (const filter of again.values()) void queries.invalidateQueries(filter);
}

/** One stream of events for the whole page keeps what is shown current, unless the reader holds it still. */
export function LiveConnectors({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [held, hold] = useState(false);
  const seen = useSeen();
  const [open, setOpen] = useState(true);
  const [watched, setWatched] = useState<ObjectKind[]>(['connector']);
  const waiting = useRef<Change[]>([]);
  const fallback = useQuery({ ...QUERY, refetchInterval: open ? false : FALLBACK_MS, enabled: !held });
  const kinds = [...new Set(watched)].sort().join(',');
  const watch = useCallback((kind: ObjectKind) => {
    setWatched((before) => [...before, kind]);
    return () =>
      setWatched((before) => {
        const at = before.indexOf(kind);
        return before.filter((_, n) => n !== at);
      });
  }, []);
  const take = (change: Change) => {
    waiting.current.push(change);
    if (waiting.current.length > 1) return;
    setTimeout(() => {
      const changes = waiting.current;
      waiting.current = [];
      show(queries, changes);
    }, GATHER_MS);
  };
  const begin = ({ anew }: Schemas['Begin']) => {
    if (anew) void queries.invalidateQueries({ predicate: ({ queryKey }) => OF_OBJECTS.has(queryKey[0]) });
  };
  const url = seen && !held ? `/api/v1/events?kinds=${kinds}` : null;
  useEvents(url, { begin, change: take }, setOpen);
  const live = useMemo(
    () => ({
      connectors: fallback.data,
      problem: fallback.data === undefined ? problemOf(fallback.error) : null,
      lost: !open && fallback.isError,
      told: open,
      held,
      hold,
      watch,
    }),
    [fallback.data, fallback.error, fallback.isError, open, held, watch],
  );
  return <Context value={live}>{children}</Context>;
}

export function useLiveConnectors(): Live {
  return useContext(Context);
}

/** Has what a page shows of a kind kept current; returns how often it is to be asked for beside that. */
export function useKeptCurrent(kind: ObjectKind): { refetchInterval: number | false } {
  const { watch, told, held } = useLiveConnectors();
  useEffect(() => watch(kind), [watch, kind]);
  return { refetchInterval: told || held ? false : FALLBACK_MS };
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
