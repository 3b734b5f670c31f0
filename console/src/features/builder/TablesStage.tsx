import { Button, Group, Loader, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { fits } from '../../shared/Filter';
import { count } from '../../shared/format';
import { useKindOf } from '../../shared/connections/kinds';
import { ProblemNote } from '../../shared/ProblemNote';
import { keyOf } from '../../shared/tables';
import { found, patternsIn, shownTable, type SourceDraft } from './builder';
import { tablesQuery } from './builderQueries';
import { Failed, Stage, type Change, type Check } from './Stage';

type SourceTable = Schemas['SourceTable'];

/** Tables drawn at once; the search finds the others. */
const SHOWN = 200;

interface Props {
  draft: SourceDraft;
  change: Change;
  failed: Check[];
  /** The table that the sample shows. */
  looked: string | null;
  onLook: (table: string) => void;
}

export function TablesStage({ draft, change, failed, looked, onLook }: Props) {
  const tables = useQuery(tablesQuery(draft.system?.id ?? null));
  const abilities = useKindOf(draft.system?.id)?.source;
  const [filter, setFilter] = useState('');
  const fitting = (tables.data ?? []).filter((t) => fits(filter, keyOf(t)));
  const free = fitting.filter((t) => t.key.length > 0 && !draft.tables[keyOf(t)]);
  const chosen = Object.keys(draft.tables);
  const there = new Set((tables.data ?? []).map(keyOf));
  // what was renamed or dropped since it was chosen: it can still be taken out
  const gone = tables.data ? Object.values(draft.tables).filter((t) => !there.has(keyOf(t))) : [];
  const byName = (tables.data ?? []).filter((t) => !draft.tables[keyOf(t)] && found(draft, t));
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
      {tables.data?.length === 0 && <p>This system has no tables that can be captured.</p>}
      {gone.length > 0 && (
        <div className="picker" style={{ marginBottom: 10 }}>
          {gone.map((table) => (
            <div key={keyOf(table)} className="pick">
              <label>
                <input
                  type="checkbox"
                  checked
                  onChange={() =>
                    change({ type: 'table', table: { schema: table.schema, table: table.table }, chosen: false })
                  }
                />
                <span className="mono" style={{ overflowWrap: 'anywhere' }}>
                  {shownTable(table, draft.system)}
                </span>
              </label>
              <div className="under">
                It is not there any more. If it was renamed, tick it under its new name, to {table.topic}, and untick
                this one.
              </div>
            </div>
          ))}
        </div>
      )}
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
              <Row
                key={keyOf(table)}
                table={table}
                draft={draft}
                change={change}
                looked={looked === keyOf(table)}
                onLook={onLook}
              />
            ))}
          </div>
          <p className="quiet">
            {count(chosen.length)} of {count(tables.data.length)} chosen
            {byName.length > 0 && `, ${count(byName.length)} more found by name`}
            {fitting.length > SHOWN && `; ${SHOWN} shown, search for the others`}
          </p>
        </>
      )}
      {tables.data && (abilities?.patterns ?? true) && (
        <details open={patternsIn(draft.include).length > 0 || undefined}>
          <summary>By their names, also those made later</summary>
          <TextInput
            mt="xs"
            label="Tables named like"
            description="* stands for any characters, ? for one; several between commas"
            placeholder="line_*, cold.*"
            classNames={{ input: 'mono' }}
            value={draft.include}
            onChange={(e) => change({ type: 'ofSource', set: { include: e.currentTarget.value } })}
          />
          <TextInput
            mt="xs"
            label="But not"
            placeholder="*_old"
            classNames={{ input: 'mono' }}
            value={draft.exclude}
            onChange={(e) => change({ type: 'ofSource', set: { exclude: e.currentTarget.value } })}
          />
        </details>
      )}
    </Stage>
  );
}

function plain({ schema, table }: SourceTable) {
  return { schema, table };
}

interface RowProps {
  table: SourceTable;
  draft: SourceDraft;
  change: Change;
  looked: boolean;
  onLook: (table: string) => void;
}

function Row({ table, draft, change, looked, onLook }: RowProps) {
  const key = keyOf(table);
  const chosen = draft.tables[key];
  const keyless = table.key.length === 0 && (chosen?.key.length ?? 0) === 0;
  const byName = !chosen && found(draft, table);
  return (
    <div className="pick" data-looked={looked || undefined}>
      <label>
        <input
          type="checkbox"
          checked={chosen !== undefined}
          onChange={(event) => {
            change({ type: 'table', table: plain(table), chosen: event.currentTarget.checked });
            if (event.currentTarget.checked) onLook(key);
          }}
        />
        <span className="mono" style={{ overflowWrap: 'anywhere' }}>
          {shownTable(table, draft.system)}
        </span>
        <span className="quiet number">
          {byName && !keyless ? 'by name · ' : ''}
          {table.rows === null || table.rows === undefined ? '' : `about ${count(table.rows)}`}
        </span>
      </label>
      {keyless && (chosen !== undefined || byName) && (
        <div className="under">
          {chosen
            ? 'It has no primary key. Choose the columns that tell its rows apart, in the sample.'
            : 'It has no primary key, so it is passed over.'}
        </div>
      )}
      {chosen && (
        <Group className="under" gap={6} wrap="nowrap">
          <TextInput
            size="xs"
            style={{ flex: 1 }}
            aria-label={`Topic for ${key}`}
            leftSection="to"
            value={chosen.topic}
            onChange={(event) => change({ type: 'ofTable', table: key, set: { topic: event.currentTarget.value } })}
          />
          <Button
            size="compact-xs"
            variant={looked ? 'light' : 'subtle'}
            aria-pressed={looked}
            aria-label={`Columns of ${key}`}
            onClick={() => onLook(key)}
          >
            Columns
          </Button>
        </Group>
      )}
    </div>
  );
}
