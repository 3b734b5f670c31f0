import { Button, Checkbox, Group, Loader, Select } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { Dialog } from '../../shared/Dialog';
import { count } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { triedRowsQuery } from './builderQueries';
import type { EventRows } from './eventRows';
import type { Change } from './Stage';
import { partsFor, readName, splitOf, toldBy, type Part } from './types';

interface Props {
  topic: string;
  /** How the events of the topic become rows now, by what is read of it. */
  rows: Record<string, EventRows>;
  change: Change;
  onClose: () => void;
}

/** Which types of a topic's events go on, each to a table or a topic of its own. */
export function TypesDialog({ topic, rows, change, onClose }: Props) {
  const queries = useQueryClient();
  const tried = useQuery(triedRowsQuery(topic, {}));
  const before = splitOf(Object.values(rows));
  const told = Object.values(rows).find((one) => one.only)?.only;
  const [by, setBy] = useState<string | null>(told ? toldBy({ part: told.part, path: told.path ?? [] }) : null);
  const [picked, setPicked] = useState<string[] | null>(before?.types ?? null);
  const [others, setOthers] = useState(before?.others ?? false);
  const places = tried.data?.types ?? [];
  const seen = places.find((place) => toldBy(place) === by) ?? places[0];
  const types = picked ?? seen?.types.map((type) => type.what) ?? [];
  // a type that is read stays in the list, though none of the newest events is of it
  const missing = types.filter((type) => !seen?.types.some((one) => one.what === type));
  const listed = [...(seen?.types ?? []), ...missing.map((what) => ({ what, records: 0 }))];
  const split = useMutation({
    mutationFn: async (parts: Part[]) => {
      const proposed = parts.map(async ({ only, after }) => {
        const name = readName(topic, only);
        const known = rows[name];
        if (known) return { name, after, rows: known };
        const found = await queries.fetchQuery(triedRowsQuery(topic, { only }));
        return { name, after, rows: found.rows };
      });
      return Promise.all(proposed);
    },
    onSuccess: (parts) => {
      change({ type: 'types', topic, parts });
      onClose();
    },
  });
  const chosen = seen ? partsFor(seen, types, others, topic) : [];
  return (
    <Dialog opened onClose={onClose} title={`Types of events in ${topic}`}>
      <ProblemNote problem={problemOf(tried.error) ?? problemOf(split.error)} />
      {tried.isPending && <Loader size="sm" />}
      {tried.data && !seen && (
        <p>
          No header or field of the newest {count(tried.data.records)} events says a type: in each stand too many texts,
          or only one.
        </p>
      )}
      {seen && (
        <>
          <p className="quiet">Each type goes to a table or a topic of its own, with columns and steps of its own.</p>
          <Select
            label="The type stands in"
            data={places.map(toldBy)}
            value={toldBy(seen)}
            onChange={(next) => {
              setBy(next);
              setPicked(null);
            }}
            data-autofocus
          />
          <div className="typeslist" role="group" aria-label="Types that are read">
            {listed.map((type) => (
              <Type
                key={type.what}
                type={type}
                checked={types.includes(type.what)}
                onChange={(on) => setPicked(on ? [...types, type.what] : types.filter((one) => one !== type.what))}
              />
            ))}
            <Checkbox
              size="sm"
              checked={others}
              label="All others, together"
              description={others ? undefined : 'Not read: events of other types are passed over.'}
              onChange={(e) => setOthers(e.currentTarget.checked)}
            />
          </div>
          <Group justify="space-between" mt="md">
            <Button
              variant="default"
              disabled={!before}
              onClick={() => {
                change({ type: 'types', topic, parts: [] });
                onClose();
              }}
            >
              Read all as one
            </Button>
            <Button disabled={types.length === 0} loading={split.isPending} onClick={() => split.mutate(chosen)}>
              {chosen.length === 1 ? 'Read this type' : 'Read them apart'}
            </Button>
          </Group>
        </>
      )}
    </Dialog>
  );
}

function Type({
  type,
  checked,
  onChange,
}: {
  type: Schemas['SeenType'];
  checked: boolean;
  onChange: (on: boolean) => void;
}) {
  return (
    <Checkbox
      size="sm"
      checked={checked}
      label={
        <>
          <span className="mono">{type.what}</span> <span className="quiet number">{count(type.records)}</span>
        </>
      }
      onChange={(e) => onChange(e.currentTarget.checked)}
    />
  );
}
