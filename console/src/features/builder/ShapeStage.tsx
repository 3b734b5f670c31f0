import { Button, Select } from '@mantine/core';

import type { Schemas } from '../../api/client';
import { Heading } from '../../shared/Page';
import { sentence, stepsOf, type Shapes } from '../../shared/shape/shape';
import { ShapeEditor } from '../../shared/shape/ShapeEditor';
import type { TableName } from '../../shared/tables';
import type { Draft } from './builder';
import { captured } from './exchange';
import { Failed, Stage, type Change, type Check } from './Stage';
import { topicOf, topicsOf } from './types';

/** The tables or topics whose rows may be shaped, by the name that their steps go by. */
function names(draft: Draft): string[] {
  if (draft.kind === 'topics') return Object.keys(draft.carries);
  return Object.keys(draft.kind === 'source' ? draft.tables : draft.topics);
}

/** What happens to the rows of each table or topic on their way. */
export function ShapeStage({
  draft,
  failed,
  onLook,
}: {
  draft: Draft;
  failed: Check[];
  onLook: (name: string) => void;
}) {
  const all = names(draft);
  const rules = draft.shape.rules ?? [];
  return (
    <Stage title="Shape">
      <Failed checks={failed} />
      {all.length === 0 && (
        <p className="quiet">
          {draft.kind === 'source' ? 'Tick a table' : 'Tick a topic'}: its columns can be renamed, hidden, computed, and
          its rows filtered.
        </p>
      )}
      <ul className="shapes">
        {all.map((name) => {
          const steps = stepsOf(draft.shape, name);
          return (
            <li key={name}>
              <div>
                <strong className="mono">{name}</strong>
                <div className="quiet">
                  {steps.length === 0
                    ? 'as it comes'
                    : steps
                        .slice(0, 3)
                        .map((s) => (s.off ? `(${sentence(s)})` : sentence(s)))
                        .join(' · ') + (steps.length > 3 ? ` · and ${steps.length - 3} more` : '')}
                </div>
              </div>
              <Button
                size="compact-sm"
                variant="default"
                disabled={!draft.system && draft.kind !== 'topics'}
                aria-label={`Shape ${name}`}
                onClick={() => onLook(name)}
              >
                {steps.length === 0 ? 'Shape it' : 'Change'}
              </Button>
            </li>
          );
        })}
      </ul>
      {rules.length > 0 && (
        <p className="quiet">
          {rules.length === 1 ? 'One rule' : `${rules.length} rules`} for tables like{' '}
          {rules.map((r) => r.tables).join(', ')} come before that.
        </p>
      )}
    </Stage>
  );
}

interface PageProps {
  draft: Draft;
  change: Change;
  name: string;
  /** The records of a cause in quarantine, where it is tried on those. */
  waiting: { connector: string; cause: string } | undefined;
  /** The shape in force, where the connector is there already. */
  inForce: Shapes | undefined;
  onBack: () => void;
  onLook: (name: string) => void;
}

/** The editor of one table's or topic's steps. */
export function ShapePage({ draft, change, name, waiting, inForce, onBack, onLook }: PageProps) {
  const all = names(draft);
  const { rows, topic } = from(draft, name);
  return (
    <div className="page">
      <Heading
        title={`Shape for ${draft.name || 'a new connector'}`}
        says={
          waiting
            ? 'Steps are tried on what waits in quarantine. Save the connector, then try those records again.'
            : 'Steps are tried on real rows as you write them. Nothing runs before the connector is saved.'
        }
        action={
          <>
            <Select
              aria-label="Table or topic"
              data={all.includes(name) ? all : [name, ...all]}
              value={name}
              searchable
              w={260}
              onChange={(next) => next && onLook(next)}
            />
            <Button onClick={onBack}>Back to the connector</Button>
          </>
        }
      />
      <ShapeEditor
        key={name}
        shape={draft.shape}
        onChange={(shape) => change({ type: 'shape', shape })}
        name={name}
        rows={waiting ? { from: 'quarantine', ...waiting } : rows}
        topic={topic}
        values={draft.kind === 'sink' ? undefined : draft.values}
        tables={tables(draft)}
        kind={draft.kind}
        inForce={inForce}
      />
    </div>
  );
}

function from(draft: Draft, name: string): { rows: Schemas['RowsFrom']; topic: string | undefined } {
  const table = draft.kind === 'source' ? draft.tables[name] : undefined;
  if (!table) {
    const topic = draft.kind === 'topics' ? draft.carries[name] : undefined;
    const rows = draft.kind === 'source' ? undefined : draft.rows[name];
    return { rows: { from: 'topic', topic: topicOf(name), ...(rows ? { rows } : {}) }, topic };
  }
  return { rows: { from: 'table', connection: draft.system?.id ?? '', table: captured(table) }, topic: table.topic };
}

/** The tables that rules may be for. A topic's rows are those of the table that wrote it, most often of its last part. */
function tables(draft: Draft): TableName[] {
  if (draft.kind === 'source') return Object.values(draft.tables);
  // rows of events stand in this schema as well
  return topicsOf(names(draft)).map((topic) => ({ schema: 'public', table: topic.split('.').pop() ?? topic }));
}
