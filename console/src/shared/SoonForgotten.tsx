import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { answered, api, everything, type Schemas } from '../api/client';
import { count, counted } from './format';
import { When } from './When';

export type SoonForgotten = Schemas['SoonForgotten'];

export const soonForgottenQuery = {
  queryKey: ['soon forgotten'],
  queryFn: () => everything((query) => answered(api.GET('/api/v1/soon-forgotten', { params: { query } }))),
  refetchInterval: 15_000,
};

/** What topics will forget within a day before a reader or a connector has read it; for those that are meant. */
export function SoonForgottenNote({ of }: { of: (soon: SoonForgotten) => boolean }) {
  const found = useQuery(soonForgottenQuery);
  const meant = (found.data ?? []).filter(of);
  if (meant.length === 0) return null;
  return (
    <div className="note" role="alert" aria-label="Soon forgotten">
      <strong>Soon forgotten, and not read yet:</strong>
      <ul className="notes">
        {meant.slice(0, 8).map((soon) => (
          <li key={`${soon.connector} ${soon.name} ${soon.topic}`}>
            <Reads soon={soon} /> <Loses soon={soon} />
          </li>
        ))}
        {meant.length > 8 && <li>and {count(meant.length - 8)} more</li>}
      </ul>
      <div className="remedy">Remedy: let them catch up, or let the topic keep its records longer.</div>
    </div>
  );
}

/** Who has not read it. */
export function Reads({ soon }: { soon: SoonForgotten }) {
  const to = soon.connector ? `/connectors/${soon.connector}` : `/readers?q=${encodeURIComponent(soon.name)}`;
  return (
    <Link className="name" to={to}>
      {soon.name}
    </Link>
  );
}

/** What, where and when. */
export function Loses({ soon }: { soon: SoonForgotten }) {
  return (
    <>
      would miss {counted(soon.records, 'record')} of{' '}
      <Link to={`/topics/${encodeURIComponent(soon.topic)}/settings`}>{soon.topic}</Link>: the first are forgotten{' '}
      <When time={soon.at} />.
    </>
  );
}
