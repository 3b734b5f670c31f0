import { Button, CopyButton, Loader } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { Choice } from '../../shared/Choice';
import { LANGUAGES, lines, type Form, type Language } from './publish';
import { newestQuery } from './topicsQueries';

/** A key as text, where it is one. */
function keyOf(key: unknown): string | null {
  return typeof key === 'string' ? key : null;
}

/** The few lines by which an application publishes to the topic, with its newest event as an example. */
export function Publish({ name }: { name: string }) {
  const [language, setLanguage] = useState<Language>('shell');
  const [form, setForm] = useState<Form>('json');
  const newest = useQuery(newestQuery(name));
  const record = newest.data?.items.find((r) => r.value !== null);
  const event = {
    origin: window.location.origin,
    topic: name,
    key: record ? keyOf(record.key) : 'room-3',
    value: record ? record.value : { room: 3, celsius: 1.5 },
  };
  const text = lines(language, form, event);
  return (
    <section className="sheet publish" aria-label="Publish from an application">
      <div className="eventways">
        <Choice<Language> label="From" value={language} onChange={setLanguage} data={LANGUAGES} small />
        <Choice<Form>
          label="As"
          value={form}
          onChange={setForm}
          data={[
            { value: 'json', label: 'JSON' },
            { value: 'cloudevents', label: 'CloudEvents' },
          ]}
          small
        />
        <CopyButton value={text}>
          {({ copied, copy }) => (
            <Button size="xs" variant="default" disabled={newest.isPending} onClick={copy}>
              {copied ? 'Copied' : 'Copy'}
            </Button>
          )}
        </CopyButton>
      </div>
      {newest.isPending ? (
        // lines that change once they were copied would publish something else
        <Loader size="sm" my="md" />
      ) : (
        <pre tabIndex={0} className="rawform mono" aria-label="Lines to publish by">
          {text}
        </pre>
      )}
      <p className="quiet">
        The answer comes once the record is durable, and says its partition and offset.{' '}
        {record ? 'The event is like the newest one here.' : 'The event is an example.'}
      </p>
    </section>
  );
}
