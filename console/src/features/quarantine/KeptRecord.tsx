import { Button, Group, Textarea } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { problemOf, fieldOf } from '../../api/client';
import { bytes } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { When } from '../../shared/When';
import { mend, type Kept } from './quarantineQueries';
import { changedFields, readJson } from './said';
import { Settle } from './Settle';

const pretty = (value: unknown) => JSON.stringify(value, null, 2);

/** One record with where it stands, what went wrong with it, and its value to look at and to mend. */
export function KeptRecord({ record, known }: { record: Kept; known: string }) {
  const [open, setOpen] = useState(false);
  const { topic, partition, offset } = record;
  // a row of a source stands in no topic yet
  const inTopic = offset != null;
  const waits = record.state === 'waiting';
  return (
    <article
      className="card"
      tabIndex={0}
      aria-label={inTopic ? `${topic} ${partition} ${offset}` : `a row for ${topic}`}
    >
      <div className="head">
        <strong className="mono">{JSON.stringify(record.key)}</strong>
        <span>
          {inTopic ? (
            <Link to={`/topics/${encodeURIComponent(topic)}?partition=${partition}&offset=${offset}`}>
              {topic}, partition {partition}, offset {offset}
            </Link>
          ) : (
            <>a row that would go to {topic}: only its key waits, the row is in its table</>
          )}
        </span>
        <span className="quiet">
          {record.state === 'asked' ? 'will be tried again' : record.state}
          {record.tries > 0 && `, tried ${record.tries === 1 ? 'once' : `${record.tries} times`}`}
          {' · came '}
          <When time={record.put_at} />
          {' · forgotten '}
          <When time={record.expires_at} />
          {' · version '}
          {record.version}
          {' · '}
          {bytes(record.bytes)}
        </span>
      </div>
      {record.finding !== known && <div>{record.finding}</div>}
      {record.state === 'discarded' && (
        <div className="quiet">
          Discarded {record.settled_by && `by ${record.settled_by} `}
          {record.settled_at && <When time={record.settled_at} />}: {record.reason}
        </div>
      )}
      {record.mended !== undefined && record.mended !== null && (
        <div>
          Mended: <span className="mono">{changedFields(record.value, record.mended).join(', ')}</span>
        </div>
      )}
      <Group gap="xs" mt={8}>
        {waits && <Settle which={{ ids: [record.id] }} records={1} quietly />}
        {inTopic && (
          <Button size="compact-sm" variant="subtle" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? 'Close' : waits ? 'Look and mend' : 'Look at it'}
          </Button>
        )}
      </Group>
      {open && (waits ? <Mending record={record} /> : <pre className="rawform mono">{pretty(record.value)}</pre>)}
      {open && record.headers.length > 0 && (
        <div className="facts">{record.headers.map((h) => `${h.name}: ${h.value}`).join(' · ')}</div>
      )}
    </article>
  );
}

function Mending({ record }: { record: Kept }) {
  const queries = useQueryClient();
  const [text, setText] = useState(() => pretty(record.mended ?? record.value));
  const read = readJson(text);
  const saving = useMutation({
    mutationFn: (value: unknown) => mend(record.id, value),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['quarantine'] }),
  });
  const changed = 'fault' in read ? [] : changedFields(record.value, read.value);
  const problem = problemOf(saving.error);
  return (
    <div style={{ marginTop: 8 }}>
      <Textarea
        label="Its value"
        description="Only this copy is mended: the record in the topic stays as it is"
        classNames={{ input: 'mono' }}
        autosize
        maxRows={24}
        value={text}
        spellCheck={false}
        error={'fault' in read ? read.fault : fieldOf(problem) === 'value' ? problem?.detail : undefined}
        onChange={(e) => {
          setText(e.currentTarget.value);
          saving.reset();
        }}
      />
      {problem && fieldOf(problem) !== 'value' && <ProblemNote problem={problem} />}
      <Group gap="xs" mt={8}>
        <Button
          size="compact-sm"
          variant="default"
          loading={saving.isPending}
          disabled={'fault' in read || (changed.length === 0 && record.mended == null)}
          onClick={() => !('fault' in read) && saving.mutate(changed.length === 0 ? null : read.value)}
        >
          {changed.length === 0 && record.mended != null ? 'Take the mending back' : 'Keep the mended value'}
        </Button>
        <span className="quiet">
          {changed.length === 0 ? 'as it is in the topic' : `changes ${changed.join(', ')}`}
          {saving.isSuccess && ' · kept'}
        </span>
      </Group>
    </div>
  );
}
