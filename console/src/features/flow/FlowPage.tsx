import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { Link, useSearchParams } from 'react-router';

import type { Schemas } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { count, counted, rate, span } from '../../shared/format';
import { healthQuery } from '../../shared/healthQuery';
import { useLiveConnectors, type Connector } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { producersQuery, type Producer } from '../../shared/producersQuery';
import { Loses, Reads, soonForgottenQuery, type SoonForgotten } from '../../shared/SoonForgotten';
import { StateMark, toneOf } from '../../shared/StateMark';
import { When } from '../../shared/When';
import { Picture } from './Picture';

const DAY_MS = 86_400_000;
/** Of what is soon forgotten, so many are listed. */
const MOST_SOON = 10;

/** Is anything wrong, and what exactly is moving. */
export function FlowPage() {
  const { connectors, problem, held } = useLiveConnectors();
  const [search, setSearch] = useSearchParams();
  const picked = search.get('of');
  const pick = (id: string | null) => setSearch(id === null ? {} : { of: id }, { replace: true });
  const all = connectors ?? [];
  const query = producersQuery();
  const heard = useQuery({ ...query, refetchInterval: held ? false : query.refetchInterval });
  const soon = useQuery({ ...soonForgottenQuery, refetchInterval: held ? false : soonForgottenQuery.refetchInterval });
  const health = useQuery({ ...healthQuery, refetchInterval: held ? false : 30_000 });
  const producers = useMemo(() => (heard.data ?? []).filter(isThere), [heard.data]);
  const moving = all.filter((c) => c.kind === 'source').reduce((sum, c) => sum + c.rate_per_s, 0);
  const delivered = all.filter((c) => c.kind === 'sink').reduce((sum, c) => sum + c.rate_per_s, 0);
  const slowest = Math.max(0, ...all.filter((c) => c.kind === 'sink').map((c) => c.lag_ms ?? 0));
  return (
    <div className="page">
      <Heading
        title="Flow"
        says="Systems and applications on the left, topics in the middle, systems on the right. Choose one to see what hangs on it."
      />
      <ProblemNote problem={problem} />
      {connectors?.length === 0 && producers.length === 0 ? (
        <Blank
          title="Nothing moves yet"
          action={
            <Button component={Link} to="/connectors/new?kind=source">
              Build a source
            </Button>
          }
        >
          Begin with a source connector: it captures the tables of a database into topics.
        </Blank>
      ) : (
        connectors && (
          <>
            <div className="figures">
              <Figure label="Captured now" value={rate(moving)} unit="changes/s" />
              <Figure label="Delivered now" value={rate(delivered)} unit="changes/s" />
              <Figure label="Sink furthest behind" value={slowest === 0 ? '0 s' : span(slowest)} />
            </div>
            <div className="beside">
              <div className="sheet">
                <Picture connectors={all} producers={producers} picked={picked} onPick={pick} />
              </div>
              <Attention connectors={all} soon={soon.data ?? []} restarts={health.data?.restarts ?? []} />
            </div>
          </>
        )
      )}
    </div>
  );
}

/** An application that appended within a day. */
function isThere(producer: Producer): boolean {
  return producer.last_append != null && Date.now() - Date.parse(producer.last_append) < DAY_MS;
}

/** What needs a person, then what mends itself. */
function Attention({
  connectors,
  soon,
  restarts,
}: {
  connectors: Connector[];
  soon: SoonForgotten[];
  restarts: Schemas['TaskRestarts'][];
}) {
  const order = (c: Connector) => (c.state === 'halted' ? 0 : c.state === 'retrying' ? 1 : c.quarantined > 0 ? 2 : 3);
  const wrong = connectors.filter(
    (c) => toneOf(c.state) === 'warn' || ['paused', 'stopped'].includes(c.state) || c.quarantined > 0,
  );
  wrong.sort((a, b) => order(a) - order(b) || (b.lag_records ?? 0) - (a.lag_records ?? 0));
  return (
    <section className="sheet" aria-label="Needs attention">
      <h2>Needs attention</h2>
      {wrong.length + soon.length + restarts.length === 0 && (
        <p className="empty">Nothing. All connectors do what they were asked to.</p>
      )}
      <ul className="attention">
        {wrong.map((c) => (
          <li key={c.id}>
            <Link className="name" to={`/connectors/${c.id}`}>
              {c.name}
            </Link>
            <div>
              <StateMark state={c.state} />{' '}
              {c.since && (
                <span className="quiet">
                  <When time={c.since} />
                </span>
              )}
            </div>
            {c.reason && <div>{c.reason}</div>}
            {c.quarantined > 0 && (
              <div>
                <Link to={`/quarantine?connector=${c.id}`}>
                  {count(c.quarantined)} {c.quarantined === 1 ? 'record waits' : 'records wait'} in quarantine
                </Link>
              </div>
            )}
            {(c.state === 'paused' || c.state === 'stopped') && !c.deleting && (
              <div className="quiet">
                {c.kind === 'source'
                  ? `Changes wait in ${c.system}, whose disk they fill until it goes on.`
                  : `${counted(c.lag_records ?? 0, 'record')} waited when it was ${c.state}.`}
              </div>
            )}
          </li>
        ))}
        {soon.slice(0, MOST_SOON).map((lost) => (
          <li key={`${lost.connector} ${lost.name} ${lost.topic}`}>
            <Reads soon={lost} />
            <div>
              <Loses soon={lost} />
            </div>
          </li>
        ))}
        {soon.length > MOST_SOON && <li className="quiet">and {count(soon.length - MOST_SOON)} more like these</li>}
        {restarts.map((of) => (
          <li key={of.task}>
            <span className="name">Gonvel itself</span>
            <div>
              A defect ended a task of the server ({of.task}) {of.count === 1 ? 'once' : `${count(of.count)} times`},
              last <When time={of.last_at} />. It began again. The server’s log says more: please report it.
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
