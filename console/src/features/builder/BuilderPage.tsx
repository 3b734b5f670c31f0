import { Loader, SegmentedControl } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useReducer, useState } from 'react';
import { useParams, useSearchParams } from 'react-router';

import { problemOf, type Schemas } from '../../api/client';
import { connectionsQuery } from '../../shared/connections/connectionsQueries';
import { useKindOf } from '../../shared/connections/kinds';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { begin, reduce, type Draft } from './builder';
import { connectorQuery, draftQuery } from './builderQueries';
import { EditStage } from './EditStage';
import { CarriesStage } from './CarriesStage';
import { EventRowsPage } from './EventRowsPage';
import { draftOf } from './exchange';
import { FinishStage } from './FinishStage';
import { opened } from './kept';
import { ManifestTab, type Unread } from './ManifestTab';
import { RecordsStage } from './RecordsStage';
import { NewestRecords, SamplePanel } from './SamplePanel';
import type { Change, Check } from './Stage';
import { StartStage } from './StartStage';
import { ShapePage, ShapeStage } from './ShapeStage';
import { SystemStage } from './SystemStage';
import { TablesStage } from './TablesStage';
import { TopicsStage } from './TopicsStage';
import { WritesStage } from './WritesStage';

/** One page, left to right: from where, which tables or topics, to where, and the start. */
export function BuilderPage() {
  const [search] = useSearchParams();
  const kept = search.get('draft');
  if (kept !== null) return <GoOn key={kept} id={kept} />;
  const asked = search.get('kind');
  const kind = asked === 'sink' || asked === 'topics' ? asked : 'source';
  const topics = (search.get('topics') ?? '').split(',').filter(Boolean);
  return <Builder key={`${kind} ${topics.join()}`} first={begin(kind, topics)} />;
}

/** The same page with an unfinished draft. */
function GoOn({ id }: { id: string }) {
  const kept = useQuery(draftQuery(id));
  const connections = useQuery(connectionsQuery);
  const problem = problemOf(kept.error) ?? problemOf(connections.error);
  if (!kept.data || !connections.data) {
    return <div className="page">{problem ? <ProblemNote problem={problem} /> : <Loader size="sm" />}</div>;
  }
  const { draft, text } = opened(kept.data, connections.data);
  return <Builder first={draft} typed={text} kept={kept.data} />;
}

/** The same page for a connector that is there. */
export function EditPage() {
  const { id } = useParams();
  const connector = useQuery(connectorQuery(id));
  const connections = useQuery(connectionsQuery);
  const problem = problemOf(connector.error) ?? problemOf(connections.error);
  if (!connector.data || !connections.data) {
    return <div className="page">{problem ? <ProblemNote problem={problem} /> : <Loader size="sm" />}</div>;
  }
  const { name, definition } = connector.data;
  return <Builder first={draftOf(name, definition, connections.data)} edited={connector.data} />;
}

const TITLES: Record<Draft['kind'], string> = {
  source: 'Build a source connector',
  sink: 'Build a sink connector',
  topics: 'Build a connector between topics',
};

const SAYS: Record<Draft['kind'], string> = {
  source: 'It copies the rows that are there into topics, then carries every change as it commits.',
  sink: 'It writes the changes or events of topics into tables of another system, in order.',
  topics: 'It shapes the rows of topics into other topics, each record once and in order.',
};

interface Props {
  first: Draft;
  /** The connector that is edited; none while one is built. */
  edited?: Schemas['Connector'];
  /** The unfinished draft that it goes on with. */
  kept?: Schemas['UnfinishedDraft'];
  /** A manifest that was typed and could not be read. */
  typed?: string | null;
}

function Builder({ first, edited, kept, typed = null }: Props) {
  const [search, setSearch] = useSearchParams();
  const [draft, dispatch] = useReducer(reduce, first);
  const [failed, setFailed] = useState<Check[]>([]);
  const [looking, setLooking] = useState<string | null>(null);
  const [unread, setUnread] = useState<Unread | null>(typed === null ? null : { text: typed, faults: [] });
  const change: Change = (action) => {
    setFailed([]);
    dispatch(action);
  };
  const loads = useKindOf(draft.system?.id)?.source?.loads ?? true;
  const asManifest = search.get('as') === 'manifest';
  const show = (as: string) => {
    const next = new URLSearchParams(search);
    if (as === 'manifest') next.set('as', as);
    else next.delete('as');
    setSearch(next, { replace: true });
  };
  // the editor of a table's steps takes the page's room; its address can be sent to a colleague
  const shaped = search.get('shape');
  const look = (name: string | null) => {
    const next = new URLSearchParams(search);
    if (name === null) next.delete('shape');
    else next.set('shape', name);
    next.delete('cause');
    setSearch(next);
  };
  // so does that of how a topic's events become rows
  const columnsOf = search.get('rows');
  const columns = (name: string | null) => {
    const next = new URLSearchParams(search);
    if (name === null) next.delete('rows');
    else next.set('rows', name);
    setSearch(next);
  };
  const at = (...fields: string[]) => failed.filter((c) => fields.includes(c.field ?? ''));
  const ofSystem = at('connection', 'host', 'port', 'user', 'password', 'database');
  const tables = draft.kind === 'source' ? Object.keys(draft.tables) : [];
  const looked = looking !== null && tables.includes(looking) ? looking : (tables[0] ?? null);
  if (shaped !== null && (draft.system || draft.kind === 'topics')) {
    return (
      <ShapePage
        draft={draft}
        change={change}
        name={shaped}
        waiting={edited && search.get('cause') ? { connector: edited.id, cause: search.get('cause') ?? '' } : undefined}
        inForce={edited ? (edited.definition.shape ?? {}) : undefined}
        onBack={() => look(null)}
        onLook={look}
      />
    );
  }
  if (columnsOf !== null && draft.kind !== 'source') {
    return (
      <EventRowsPage
        key={columnsOf}
        name={columnsOf}
        rows={draft.rows[columnsOf]}
        currentRows={draft.kind === 'sink' && draft.writes.rows === 'current'}
        onChange={(rows) => change({ type: 'rows', topic: columnsOf, rows })}
        onBack={() => columns(null)}
      />
    );
  }
  return (
    <div className="page">
      <Heading
        title={edited ? `Edit ${edited.name}` : TITLES[draft.kind]}
        says={draft.kind === 'source' && !loads ? 'It brings every row into topics, as it is made.' : SAYS[draft.kind]}
        action={
          <>
            <SegmentedControl
              aria-label="Shown as"
              value={asManifest ? 'manifest' : 'form'}
              onChange={show}
              data={[
                { value: 'form', label: 'Form' },
                { value: 'manifest', label: 'Manifest' },
              ]}
            />
            {!edited && (
              <SegmentedControl
                aria-label="Kind of connector"
                value={draft.kind}
                onChange={(next) => setSearch({ kind: next }, { replace: true })}
                data={[
                  { value: 'source', label: 'Source' },
                  { value: 'sink', label: 'Sink' },
                  { value: 'topics', label: 'Between topics' },
                ]}
              />
            )}
          </>
        }
      />
      <div className="building">
        {asManifest ? (
          <ManifestTab
            draft={draft}
            onDraft={(next) => change({ type: 'replace', draft: next })}
            unread={unread}
            onUnread={setUnread}
            name={edited?.name ?? null}
          />
        ) : (
          <div className="stages">
            {draft.kind === 'source' ? (
              <>
                <SystemStage
                  title="From"
                  draft={draft}
                  change={change}
                  failed={ofSystem}
                  fixed={edited !== undefined}
                />
                <TablesStage draft={draft} change={change} failed={at('tables')} looked={looked} onLook={setLooking} />
                <ShapeStage draft={draft} failed={at('shape')} onLook={look} />
                <RecordsStage draft={draft} change={change} />
              </>
            ) : draft.kind === 'topics' ? (
              <>
                <CarriesStage draft={draft} change={change} failed={at('topics', 'carries')} onColumns={columns} />
                <ShapeStage draft={draft} failed={at('shape')} onLook={look} />
              </>
            ) : (
              <>
                <TopicsStage draft={draft} change={change} failed={at('topics')} onColumns={columns} />
                <ShapeStage draft={draft} failed={at('shape')} onLook={look} />
                <SystemStage title="To" draft={draft} change={change} failed={ofSystem} fixed={edited !== undefined} />
                <WritesStage draft={draft} change={change} />
              </>
            )}
            <StartStage draft={draft} change={change} failed={at('start')} />
          </div>
        )}
        <div className="aside">
          {edited ? (
            <EditStage connector={edited} draft={draft} change={change} unread={unread !== null} onFailed={setFailed} />
          ) : (
            <FinishStage draft={draft} change={change} unread={unread?.text ?? null} kept={kept} onFailed={setFailed} />
          )}
          {draft.kind === 'source' ? (
            <SamplePanel draft={draft} change={change} looked={looked} />
          ) : (
            draft.kind === 'sink' && <NewestRecords draft={draft} />
          )}
        </div>
      </div>
    </div>
  );
}
