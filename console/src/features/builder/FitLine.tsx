import { Button, Select, Table } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answered, api, problemOf, type Schemas } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { ProblemNote } from '../../shared/ProblemNote';
import { schemaNamesQuery } from '../../shared/schemaNamesQuery';
import { triedQuery } from '../../shared/shape/shapeQueries';
import type { TopicsDraft } from './builder';
import type { Change } from './Stage';
import { topicOf } from './types';

type Fit = Schemas['Fit'];

interface Props {
  draft: TopicsDraft;
  topic: string;
  change: Change;
}

const OWN = '';

/** How sure a link is, in words, the surest first. */
const SURE: Record<Schemas['How'], string> = {
  chosen: 'chosen',
  name: 'same name',
  alias: 'by an alias',
  alike: 'names alike',
  near: 'one name has the other in it',
  type: 'only its type fits',
};

/** What is proposed and not linked before it is chosen. */
const isProposed = (field: Schemas['FitField']) => field.how === 'type' || field.how === 'near';

/** The schema that the rows of a topic are written under: one of their own, or one that is registered. */
export function FitLine({ draft, topic, change }: Props) {
  const [open, setOpen] = useState(false);
  const names = useQuery(schemaNamesQuery);
  const fit = draft.fits[topic];
  const fitted = useFitted(draft, topic, fit);
  const options = (names.data ?? []).map((s) => ({ value: s.name, label: s.name }));
  const wrong = (fitted.data?.fields ?? []).filter((f) => f.finding);
  const linked = (fitted.data?.fields ?? []).filter((f) => f.column != null && !isProposed(f));
  return (
    <div>
      <Select
        size="xs"
        searchable
        leftSection="as"
        aria-label={`Schema for the rows of ${topic}`}
        data={[{ value: OWN, label: 'a schema of its own' }, ...options]}
        value={fit?.schema ?? OWN}
        onChange={(schema) => change({ type: 'fit', topic, fit: schema ? { schema } : null })}
      />
      {fit && (
        <div className="eventline">
          {fitted.data && (
            <span className={wrong.length > 0 ? 'fails' : 'quiet'}>
              {wrong.length > 0
                ? `${wrong.length} ${wrong.length === 1 ? 'field needs' : 'fields need'} a look`
                : `${linked.length} of ${fitted.data.fields.length} fields linked`}
            </span>
          )}
          <Button size="compact-xs" variant="default" aria-label={`Fields for ${topic}`} onClick={() => setOpen(true)}>
            Fields
          </Button>
        </div>
      )}
      {fit && open && (
        <FieldsDialog
          fit={fit}
          fitted={fitted}
          onChange={(next) => change({ type: 'fit', topic, fit: next })}
          onClose={() => setOpen(false)}
        />
      )}
    </div>
  );
}

/** A schema's fields linked with the columns that the shape leaves. */
function useFitted(draft: TopicsDraft, topic: string, fit: Fit | undefined) {
  const rows = draft.rows[topic];
  const from = { from: 'topic' as const, topic: topicOf(topic), ...(rows ? { rows } : {}) };
  const [asked] = useDebouncedValue(draft.shape, 300);
  const tried = useQuery(triedQuery(fit ? { shape: asked, rows: from } : null));
  const last = tried.data?.before.at(-1) ?? tried.data?.columns;
  const columns = last?.map(({ name, type }) => ({ name, type }));
  const body = { columns: columns ?? [], links: fit?.links ?? [] };
  const schema = fit?.schema ?? '';
  const found = useQuery({
    queryKey: ['fit', schema, body],
    queryFn: () => answered(api.POST('/api/v1/schemas/{name}/fit', { params: { path: { name: schema } }, body })),
    enabled: fit !== undefined && columns !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
  });
  return { data: fit ? found.data : undefined, columns: columns ?? [], error: tried.error ?? found.error };
}

function FieldsDialog({
  fit,
  fitted,
  onChange,
  onClose,
}: {
  fit: Fit;
  fitted: ReturnType<typeof useFitted>;
  onChange: (fit: Fit) => void;
  onClose: () => void;
}) {
  const { data, columns, error } = fitted;
  const choose = (path: string[], column: string | null) => {
    const others = (fit.links ?? []).filter((link) => link.field.join('\0') !== path.join('\0'));
    onChange({ ...fit, links: column === null ? others : [...others, { field: path, column }] });
  };
  return (
    <Dialog
      opened
      onClose={onClose}
      title={`Fields of ${fit.schema}${data ? `, version ${data.version}` : ''}`}
      size={900}
    >
      <ProblemNote problem={problemOf(error)} />
      <p className="quiet">
        Each field takes the column of its name or of an alias; choose others here. Rows that do not fit the schema go
        to quarantine.
      </p>
      {data && (
        <Table.ScrollContainer minWidth={680}>
          <Table aria-label="Fields">
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Field</Table.Th>
                <Table.Th>Holds</Table.Th>
                <Table.Th>Column</Table.Th>
                <Table.Th>How sure, and what is converted</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {data.fields.map((field) => (
                <Table.Tr key={field.path.join('.')}>
                  <Table.Td w={190} className="mono" style={{ overflowWrap: 'anywhere' }}>
                    {field.path.join('.')}
                  </Table.Td>
                  <Table.Td>
                    {field.holds}
                    {field.needed && <div className="quiet">needed</div>}
                  </Table.Td>
                  <Table.Td w={230}>
                    <Select
                      size="xs"
                      searchable
                      clearable
                      aria-label={`Column for ${field.path.join('.')}`}
                      placeholder={isProposed(field) ? `perhaps ${field.column ?? ''}` : 'none'}
                      data={columns.map((c) => ({ value: c.name, label: `${c.name} (${c.type})` }))}
                      value={isProposed(field) ? null : (field.column ?? null)}
                      onChange={(column) => choose(field.path, column ?? '')}
                    />
                  </Table.Td>
                  <Table.Td>
                    {field.finding ? (
                      <div className="fails">
                        {field.column == null || isProposed(field) ? 'needs a column' : field.finding}
                      </div>
                    ) : (
                      field.how && <span>{SURE[field.how]}</span>
                    )}
                    {field.converts && <div className="quiet">{field.converts}</div>}
                    {isProposed(field) && field.column && (
                      <Button
                        size="compact-xs"
                        variant="default"
                        onClick={() => choose(field.path, field.column ?? '')}
                      >
                        Take {field.column}: {field.how && SURE[field.how]}
                      </Button>
                    )}
                  </Table.Td>
                </Table.Tr>
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
      {data && data.unused.length > 0 && <p className="quiet">Not written: {data.unused.join(', ')}.</p>}
    </Dialog>
  );
}
