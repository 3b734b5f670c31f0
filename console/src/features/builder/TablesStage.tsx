import { Button, Checkbox, Group, Loader, NumberInput, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { fits } from '../../shared/Filter';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { keyOf, type SourceDraft } from './builder';
import { tablesQuery } from './builderQueries';
import { Failed, Stage, type Change, type Check } from './Stage';

type SourceTable = Schemas['SourceTable'];

/** Tables drawn at once; the search finds the others. */
const SHOWN = 200;

export function TablesStage({ draft, change, failed }: { draft: SourceDraft; change: Change; failed: Check[] }) {
  const tables = useQuery(tablesQuery(draft.system?.id ?? null));
  const [filter, setFilter] = useState('');
  const fitting = (tables.data ?? []).filter((t) => fits(filter, keyOf(t)));
  const free = fitting.filter((t) => t.key.length > 0 && !draft.tables[keyOf(t)]);
  const chosen = Object.keys(draft.tables);
  if (!draft.system) {
    return (
      <Stage title="Which tables">
        <p className="quiet">Its tables appear here once a system is chosen.</p>
      </Stage>
    );
  }
  return (
    <Stage title="Which tables">
      <Failed checks={failed} />
      <ProblemNote problem={problemOf(tables.error)} />
      {tables.isFetching && !tables.data && <Loader size="sm" />}
      {tables.data?.length === 0 && <p>This database has no tables that this user may see.</p>}
      {tables.data && tables.data.length > 0 && (
        <>
          <Group gap="xs" wrap="nowrap">
            <TextInput
              style={{ flex: 1 }}
              placeholder="Search tables"
              aria-label="Search tables"
              value={filter}
              onChange={(e) => setFilter(e.currentTarget.value)}
            />
            <Button
              variant="default"
              disabled={free.length === 0}
              onClick={() => free.forEach((table) => change({ type: 'table', table: plain(table), chosen: true }))}
            >
              Tick {count(free.length)}
            </Button>
          </Group>
          <div className="picker" style={{ marginTop: 10 }}>
            {fitting.slice(0, SHOWN).map((table) => (
              <Row key={keyOf(table)} table={table} draft={draft} change={change} />
            ))}
          </div>
          <p className="quiet">
            {count(chosen.length)} of {count(tables.data.length)} chosen
            {fitting.length > SHOWN && `; ${SHOWN} shown, search for the others`}
          </p>
          <TextInput
            mb="sm"
            label="Topics are named"
            description="By {system}, {schema} and {table}; each can be named by hand above"
            classNames={{ input: 'mono' }}
            value={draft.template}
            onChange={(e) => change({ type: 'template', template: e.currentTarget.value })}
          />
          <NumberInput
            label="Partitions of each topic"
            description="Rows with one key stay in order within their partition"
            min={1}
            max={1000}
            allowDecimal={false}
            value={draft.partitions}
            onChange={(value) => change({ type: 'partitions', partitions: Number(value) || 1 })}
          />
          <Checkbox
            mt="sm"
            label="Copy the rows that are there first"
            description="Otherwise only what changes from the start on is captured"
            checked={draft.load.rows}
            onChange={(e) => change({ type: 'load', load: { ...draft.load, rows: e.currentTarget.checked } })}
          />
          {draft.load.rows && (
            <NumberInput
              mt="xs"
              label="Rows a second at most"
              description="Gentle on a busy source; changes do not wait for it"
              placeholder="as fast as it gives them"
              min={1}
              allowDecimal={false}
              thousandSeparator=","
              value={draft.load.rows_per_second ?? ''}
              onChange={(value) =>
                change({ type: 'load', load: { ...draft.load, rows_per_second: Number(value) || undefined } })
              }
            />
          )}
        </>
      )}
    </Stage>
  );
}

function plain({ schema, table }: SourceTable) {
  return { schema, table };
}

function Row({ table, draft, change }: { table: SourceTable; draft: SourceDraft; change: Change }) {
  const key = keyOf(table);
  const chosen = draft.tables[key];
  const keyless = table.key.length === 0;
  return (
    <div className="pick">
      <label>
        <input
          type="checkbox"
          checked={chosen !== undefined}
          disabled={keyless}
          onChange={(event) => change({ type: 'table', table: plain(table), chosen: event.currentTarget.checked })}
        />
        <span className="mono" style={{ overflowWrap: 'anywhere' }}>
          {table.schema === 'public' ? table.table : key}
        </span>
        <span className="quiet number">
          {table.rows === null || table.rows === undefined ? '' : `about ${count(table.rows)}`}
        </span>
      </label>
      {keyless && (
        <div className="under">
          It has no primary key, so its rows cannot be told apart. Give it one to capture it:{' '}
          <span className="mono">ALTER TABLE … ADD PRIMARY KEY (…)</span>
        </div>
      )}
      {chosen && (
        <div className="under">
          <TextInput
            size="xs"
            aria-label={`Topic for ${key}`}
            leftSection="to"
            value={chosen.topic}
            onChange={(event) => change({ type: 'topicOf', table: key, topic: event.currentTarget.value })}
          />
        </div>
      )}
    </div>
  );
}
