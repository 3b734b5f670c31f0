import { Checkbox, NumberInput, Select, TextInput } from '@mantine/core';

import { useKindOf, type SourceAbilities } from '../../shared/connections/kinds';
import { useLiveConnectors } from '../../shared/liveConnectors';
import type { Draft, Start } from './builder';
import { Failed, Stage, type Change, type Check } from './Stage';

const PLACES = {
  source: [
    { value: 'usual', label: 'Now' },
    { value: 'earliest', label: 'As far back as the log is kept' },
    { value: 'time', label: 'At a time' },
    { value: 'position', label: 'After a position of the log' },
    { value: 'connector', label: 'Where another connector stands' },
  ],
  sink: [
    { value: 'usual', label: 'With the oldest records' },
    { value: 'latest', label: 'With the next record' },
    { value: 'time', label: 'At a time' },
    { value: 'offsets', label: 'At offsets, by the manifest' },
    { value: 'connector', label: 'Where another connector stands' },
  ],
  topics: [
    { value: 'usual', label: 'With the oldest records' },
    { value: 'latest', label: 'With the next record' },
    { value: 'time', label: 'At a time' },
    { value: 'offsets', label: 'At offsets, by the manifest' },
  ],
};

function first(place: string, before: Start | null): Start | null {
  if (before?.at === place) return before;
  switch (place) {
    case 'earliest':
    case 'latest':
      return { at: place };
    case 'time':
      return { at: 'time', time: new Date(Date.now() - 3_600_000).toISOString() };
    case 'position':
      return { at: 'position', position: '' };
    case 'offsets':
      return { at: 'offsets', offsets: [] };
    case 'connector':
      return { at: 'connector', connector: '' };
    default:
      return null;
  }
}

/** The places that a system's kind knows. */
function placesOf(draft: Draft, abilities: SourceAbilities | undefined) {
  const known = (place: string) => abilities?.starts.some((start) => start === place) ?? true;
  return PLACES[draft.kind].filter(({ value }) => value === 'usual' || draft.kind !== 'source' || known(value));
}

/** Where a connector begins, and the load of the rows that are there. */
export function StartStage({ draft, change, failed }: { draft: Draft; change: Change; failed: Check[] }) {
  const { connectors } = useLiveConnectors();
  const start = draft.start;
  const set = (next: Start | null) => change({ type: 'start', start: next });
  const abilities = useKindOf(draft.system?.id)?.source ?? undefined;
  const places = placesOf(draft, abilities);
  const others = (connectors ?? []).filter((c) => c.kind === draft.kind && c.name !== draft.name);
  return (
    <Stage title="From when on">
      <Failed checks={failed} />
      {places.length > 1 || start ? (
        <Select
          label="It begins"
          data={places}
          value={start?.at ?? 'usual'}
          onChange={(place) => set(first(place ?? 'usual', start))}
        />
      ) : (
        <p className="quiet">It begins now: a system of this kind knows no other beginning.</p>
      )}
      {start?.at === 'time' && (
        <TextInput
          mt="xs"
          label="Time"
          description="With its zone, as 2026-11-25T06:00:00Z"
          classNames={{ input: 'mono' }}
          value={start.time}
          error={Number.isNaN(Date.parse(start.time)) ? 'This is no time' : undefined}
          onChange={(e) => set({ at: 'time', time: e.currentTarget.value })}
        />
      )}
      {start?.at === 'position' && (
        <TextInput
          mt="xs"
          label="Position"
          description="As the system writes it"
          classNames={{ input: 'mono' }}
          value={start.position}
          onChange={(e) => set({ at: 'position', position: e.currentTarget.value })}
        />
      )}
      {start?.at === 'connector' && (
        <Select
          mt="xs"
          label="The other connector"
          placeholder="Choose one"
          data={others.map((c) => ({ value: c.id, label: c.name }))}
          value={start.connector === '' ? null : start.connector}
          onChange={(connector) => set({ at: 'connector', connector: connector ?? '' })}
        />
      )}
      {draft.kind === 'source' && (abilities?.loads ?? true) && (
        <>
          <Checkbox
            mt="sm"
            label="Copy the rows that are there first"
            description="Otherwise only what changes from the start on is captured"
            checked={draft.load.rows}
            onChange={(e) => change({ type: 'load', set: { rows: e.currentTarget.checked } })}
          />
          {draft.load.rows && (
            <>
              <NumberInput
                mt="xs"
                label="Rows a second at most"
                description="Gentle on a busy source; changes do not wait for it"
                placeholder="as fast as it gives them"
                min={1}
                allowDecimal={false}
                thousandSeparator=","
                value={draft.load.rows_per_second ?? ''}
                onChange={(value) => change({ type: 'load', set: { rows_per_second: Number(value) || undefined } })}
              />
              <NumberInput
                mt="xs"
                label="Chunks at a time"
                description="Each is read by a session of its own"
                min={1}
                max={16}
                allowDecimal={false}
                value={draft.load.chunks}
                onChange={(value) => change({ type: 'load', set: { chunks: Number(value) || 1 } })}
              />
            </>
          )}
        </>
      )}
    </Stage>
  );
}
