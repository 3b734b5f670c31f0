import { useQuery } from '@tanstack/react-query';

import { problemOf } from '../../api/client';
import { exact } from '../../shared/format';
import type { Connector } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { When } from '../../shared/When';
import { historyQuery } from './connectorsQueries';
import { Versions } from './Versions';

/** Who did what with a connector, when, and from which version; and all its versions. */
export function History({ connector }: { connector: Connector }) {
  const deeds = useQuery(historyQuery(connector.id));
  return (
    <>
      <section className="sheet" aria-label="History">
        <h2>What was done</h2>
        <ProblemNote problem={problemOf(deeds.error)} />
        <ol className="deeds">
          {(deeds.data ?? []).map((deed) => (
            <li key={deed.number}>
              <span className="quiet" title={exact(deed.at)}>
                <When time={deed.at} />
              </span>
              <span>
                <strong>{deed.what}</strong> {deed.who !== '' && `by ${deed.who} `}
                <span className="quiet">version {deed.version}</span>
                {deed.detail && <div>{deed.detail}</div>}
              </span>
            </li>
          ))}
        </ol>
      </section>
      <Versions connector={connector} />
    </>
  );
}
