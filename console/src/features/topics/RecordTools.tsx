import { Button, Menu, NumberInput, SegmentedControl, Select, TextInput } from '@mantine/core';
import { useState } from 'react';

import type { Schemas } from '../../api/client';
import { exportUrl } from './topicsQueries';
import type { Form, View } from './view';

interface Props {
  name: string;
  view: View;
  partitions: Schemas['Partition'][];
  searching: boolean;
  onChange: (part: Partial<View>) => void;
  onRefresh: () => void;
  onStop: () => void;
}

/** How the records are looked at: order, place, condition, form. */
export function RecordTools({ name, view, partitions, searching, onChange, onRefresh, onStop }: Props) {
  const mode = view.tail ? 'tail' : view.order;
  return (
    <>
      <div className="tools">
        <SegmentedControl
          size="sm"
          aria-label="Order"
          value={mode}
          onChange={(value) =>
            onChange(value === 'tail' ? { tail: true } : { order: value as View['order'], tail: false })
          }
          data={[
            { value: 'newest', label: 'Newest first' },
            { value: 'oldest', label: 'Oldest first' },
            { value: 'tail', label: 'As they come' },
          ]}
        />
        <Select
          size="sm"
          w={138}
          aria-label="Partition"
          value={view.partition === null ? 'all' : String(view.partition)}
          onChange={(value) => onChange({ partition: value === 'all' || value === null ? null : Number(value) })}
          data={[
            { value: 'all', label: 'All partitions' },
            ...partitions.map((p) => ({ value: String(p.partition), label: `Partition ${p.partition}` })),
          ]}
        />
        <From
          key={`${view.offset} ${view.time} ${view.partition} ${view.key}`}
          view={view}
          single={partitions.length === 1}
          onChange={onChange}
        />
      </div>
      <div className="tools">
        <Condition key={view.filter} view={view} searching={searching} onChange={onChange} onStop={onStop} />
        <SegmentedControl
          size="sm"
          aria-label="Form"
          value={view.form}
          onChange={(value) => onChange({ form: value as Form })}
          data={[
            { value: 'table', label: 'Table' },
            { value: 'json', label: 'JSON' },
            { value: 'raw', label: 'Raw' },
            { value: 'hex', label: 'Hex' },
          ]}
        />
        {!view.tail && view.filter === null && (
          <Button variant="default" size="sm" onClick={onRefresh}>
            Read again
          </Button>
        )}
        <Menu position="bottom-end" shadow="sm">
          <Menu.Target>
            <Button variant="default" size="sm">
              Export
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Label>
              {view.partition === null ? 'All partitions' : `Partition ${view.partition}`} as a file
            </Menu.Label>
            {['avro', 'parquet', 'jsonl', 'csv'].map((form) => (
              <Menu.Item key={form} component="a" href={exportUrl(name, form, view)} download>
                {{ avro: 'Avro', parquet: 'Parquet', jsonl: 'JSON Lines', csv: 'CSV' }[form]}
              </Menu.Item>
            ))}
          </Menu.Dropdown>
        </Menu>
      </div>
    </>
  );
}

interface ConditionProps {
  view: View;
  searching: boolean;
  onChange: (part: Partial<View>) => void;
  onStop: () => void;
}

/** A condition to search for, back from the newest record. */
function Condition({ view, searching, onChange, onStop }: ConditionProps) {
  const [text, setText] = useState(view.filter ?? '');
  return (
    <form
      style={{ display: 'flex', gap: 10, flex: '1 1 24rem', minWidth: 0 }}
      onSubmit={(event) => {
        event.preventDefault();
        onChange({ filter: text.trim() === '' ? null : text.trim() });
      }}
    >
      <TextInput
        size="sm"
        style={{ flex: 1, minWidth: 0 }}
        aria-label="Condition"
        placeholder="Search:  value.new.weight_kg > 18 AND headers.room = '3'"
        title="SQL over key, value, headers, partition, offset and timestamp"
        value={text}
        onChange={(event) => setText(event.currentTarget.value)}
        spellCheck={false}
        classNames={{ input: 'mono' }}
      />
      {searching ? (
        <Button variant="default" size="sm" onClick={onStop}>
          Stop
        </Button>
      ) : (
        <Button type="submit" variant="default" size="sm">
          Search
        </Button>
      )}
      {view.filter !== null && (
        <Button variant="subtle" size="sm" onClick={() => onChange({ filter: null })}>
          All records
        </Button>
      )}
    </form>
  );
}

/** Where to begin: at an offset of the chosen partition, at a time, or only one key's records. */
function From({ view, single, onChange }: { view: View; single: boolean; onChange: (part: Partial<View>) => void }) {
  const [offset, setOffset] = useState<number | string>(view.offset ?? '');
  const [time, setTime] = useState(view.time === null ? '' : localTime(view.time));
  const [key, setKey] = useState(view.key ?? '');
  const partition = view.partition ?? (single ? 0 : null);
  return (
    <form
      style={{ display: 'contents' }}
      onSubmit={(event) => {
        event.preventDefault();
        const keyed = { key: key === '' ? null : key };
        if (offset !== '' && Number(offset) !== view.offset)
          onChange({ ...keyed, partition, offset: Number(offset), tail: false });
        else if (time !== '') onChange({ ...keyed, time: new Date(time).toISOString(), tail: false });
        else onChange({ ...keyed, offset: null, time: null });
      }}
    >
      <NumberInput
        size="sm"
        w={92}
        aria-label="From offset"
        placeholder="Offset"
        title={partition === null ? 'Offsets are counted in each partition: choose one first' : undefined}
        disabled={partition === null}
        min={0}
        hideControls
        allowDecimal={false}
        value={offset}
        onChange={(value) => {
          setOffset(value);
          if (value !== '') setTime('');
        }}
      />
      <TextInput
        size="sm"
        w={186}
        type="datetime-local"
        step={1}
        aria-label="From time"
        value={time}
        onChange={(event) => {
          setTime(event.currentTarget.value);
          if (event.currentTarget.value !== '') setOffset('');
        }}
      />
      <TextInput
        size="sm"
        w={110}
        aria-label="Key"
        placeholder="Key"
        title="The key as text, or as JSON where it has several columns"
        value={key}
        onChange={(event) => setKey(event.currentTarget.value)}
        spellCheck={false}
      />
      <Button type="submit" variant="default" size="sm">
        Go
      </Button>
    </form>
  );
}

/** A time in the form of the browser's own field, in the viewer's zone. */
function localTime(time: string): string {
  const date = new Date(time);
  return new Date(date.getTime() - date.getTimezoneOffset() * 60_000).toISOString().slice(0, 19);
}
