import { createSpotlight, Spotlight, useSpotlight } from '@mantine/spotlight';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';

import { useLiveConnectors } from '../shared/liveConnectors';
import { schemaNamesQuery } from '../shared/schemaNamesQuery';
import { topicsQuery } from '../shared/topicsQuery';
import { GROUPS } from './places';

const [store, finder] = createSpotlight();

export function openFinder() {
  finder.open();
}

function firstFound(selector: string): HTMLElement | null {
  // a list that is empty has no id
  const list = document.getElementById(store.getState().listId);
  return list?.querySelector<HTMLElement>(selector) ?? null;
}

/** Type to go to any object or action. */
export function Finder() {
  const navigate = useNavigate();
  const { connectors } = useLiveConnectors();
  const topics = useQuery(topicsQuery);
  const { opened } = useSpotlight(store);
  const schemas = useQuery({ ...schemaNamesQuery, enabled: opened });
  const [query, setQuery] = useState('');
  const entered = useRef<string | null>(null);
  const pending = topics.isPending || schemas.isPending;
  // Enter that came before what was typed is found opens the first that is
  useEffect(() => {
    if (!opened || entered.current === null || entered.current !== query) return;
    const first = firstFound('[data-action]');
    if (!first) return;
    entered.current = null;
    first.click();
  });
  const go = (to: string) => () => void navigate(to);
  const groups = [
    {
      group: 'Do',
      actions: [
        { id: 'new-source', label: 'Build a source connector', onClick: go('/connectors/new?kind=source') },
        { id: 'new-topics', label: 'Build a connector between topics', onClick: go('/connectors/new?kind=topics') },
        { id: 'new-sink', label: 'Build a sink connector', onClick: go('/connectors/new?kind=sink') },
        { id: 'new-topic', label: 'Make a topic', onClick: go('/topics?new=1') },
        { id: 'new-schema', label: 'Register a schema', onClick: go('/schemas/new') },
        { id: 'new-connection', label: 'Make a connection', onClick: go('/connections?new=1') },
      ],
    },
    {
      group: 'Go to',
      actions: GROUPS.flatMap((g) => g.places).map((p) => ({
        id: p.to,
        label: p.label,
        description: p.says,
        onClick: go(p.to),
      })),
    },
    {
      group: 'Connectors',
      actions: (connectors ?? []).map((c) => ({
        id: c.id,
        label: c.name,
        description: `${c.kind}, ${c.state}`,
        onClick: go(`/connectors/${c.id}`),
      })),
    },
    {
      group: 'Topics',
      // thousands, and compared with what is typed each time this is drawn: only while it is open
      actions: (opened ? (topics.data ?? []) : []).map((t) => ({
        id: `topic ${t.name}`,
        label: t.name,
        description: 'topic',
        onClick: go(`/topics/${encodeURIComponent(t.name)}`),
      })),
    },
    {
      group: 'Schemas',
      actions: (opened ? (schemas.data ?? []) : []).map((s) => ({
        id: `schema ${s.name}`,
        label: s.name,
        description: `schema, ${s.topics.map((t) => `${t.role}s of ${t.topic}`).join(', ') || 'no topic'}`,
        onClick: go(`/schemas/${encodeURIComponent(s.name)}`),
      })),
    },
  ];
  return (
    <Spotlight
      store={store}
      actions={groups}
      limit={40}
      scrollable
      // what an action opens takes the focus
      returnFocus={false}
      maxHeight={440}
      shortcut={['mod + K', '/']}
      nothingFound={pending ? 'Looking…' : 'Nothing by that name'}
      query={query}
      onQueryChange={setQuery}
      searchProps={{
        placeholder: 'Go to a connector, a topic, a schema, an action',
        'aria-label': 'Find',
        onKeyDown: (event) => {
          // what was found later than it was typed is shown, but not chosen
          const late = event.key === 'Enter' && !firstFound('[data-selected]');
          entered.current = late && pending ? query : null;
          if (late) firstFound('[data-action]')?.click();
        },
      }}
    />
  );
}
