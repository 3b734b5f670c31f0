import { createSpotlight, Spotlight, useSpotlight } from '@mantine/spotlight';
import { useQuery } from '@tanstack/react-query';
import { useNavigate } from 'react-router';

import { useLiveConnectors } from '../shared/liveConnectors';
import { schemaNamesQuery } from '../shared/schemaNamesQuery';
import { topicsQuery } from '../shared/topicsQuery';
import { GROUPS } from './places';

const [store, finder] = createSpotlight();

export function openFinder() {
  finder.open();
}

/** Type to go to any object or action. */
export function Finder() {
  const navigate = useNavigate();
  const { connectors } = useLiveConnectors();
  const topics = useQuery(topicsQuery);
  const { opened } = useSpotlight(store);
  const schemas = useQuery({ ...schemaNamesQuery, enabled: opened });
  const go = (to: string) => () => void navigate(to);
  const groups = [
    {
      group: 'Do',
      actions: [
        { id: 'new-source', label: 'Build a source connector', onClick: go('/connectors/new?kind=source') },
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
      nothingFound="Nothing by that name"
      searchProps={{ placeholder: 'Go to a connector, a topic, a schema, an action', 'aria-label': 'Find' }}
    />
  );
}
