import { useMutation, useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';

import { problemOf, type Schemas } from '../../api/client';
import { connectionsQuery } from '../../shared/connections/connectionsQueries';
import { LinedText } from '../../shared/LinedText';
import { ProblemNote } from '../../shared/ProblemNote';
import type { Draft } from './builder';
import { readManifest, writeManifest } from './builderQueries';
import { definitionOf, draftOf } from './exchange';

/** A text that was typed and cannot be taken as it is. */
export interface Unread {
  text: string;
  faults: Schemas['ManifestFault'][];
}

interface Props {
  draft: Draft;
  onDraft: (draft: Draft) => void;
  /** What was typed earlier and could not be read. */
  unread: Unread | null;
  onUnread: (unread: Unread | null) => void;
  /** The name of a connector that is there, which stays. */
  name: string | null;
}

/** The connector as text, read as it is typed: what is right goes into the form, what is not is told at its line. */
export function ManifestTab({ draft, onDraft, unread, onUnread, name }: Props) {
  const connections = useQuery(connectionsQuery);
  const [text, setText] = useState<string | null>(unread?.text ?? null);
  const faults = unread?.faults ?? [];
  const latest = useRef(0);
  const first = useMutation({
    mutationFn: writeManifest,
    onSuccess: (written) => setText((before) => before ?? written.text),
  });
  const { mutate } = first;
  // written once, as the tab opens; from then on the text is the person's
  const opened = useRef(draft);
  useEffect(() => {
    const definition = definitionOf(opened.current);
    if (definition) mutate({ name: opened.current.name, definition });
    else setText(EMPTY[opened.current.kind]);
  }, [mutate]);
  const read = useMutation({ mutationFn: ({ text: t }: { text: string; turn: number }) => readManifest(t) });
  const type = (next: string) => {
    setText(next);
    latest.current += 1;
    const turn = latest.current;
    read.mutate(
      { text: next, turn },
      {
        onSuccess: (reading) => {
          if (turn !== latest.current) return;
          const { connector } = reading;
          const renamed = connector && name !== null && connector.name !== name;
          const all = renamed ? [{ ...NAME, finding: `it is called ${name}, and stays so` }] : reading.faults;
          onUnread(all.length > 0 ? { text: next, faults: all } : null);
          if (connector && !renamed) onDraft(draftOf(connector.name, connector.definition, connections.data ?? []));
        },
      },
    );
  };
  // a text that was kept with a draft is read again, for its faults
  const again = useRef(() => {
    if (unread && unread.faults.length === 0) type(unread.text);
  });
  useEffect(() => again.current(), []);
  return (
    <section className="sheet manifest" aria-label="Manifest">
      <ProblemNote problem={problemOf(first.error) ?? problemOf(read.error)} />
      <LinedText
        label="Manifest of the connector"
        text={text ?? ''}
        wrong={faults.map((fault) => fault.line)}
        onType={type}
      />
      <div aria-live="polite">
        {faults.map((fault) => (
          <p key={`${fault.line}:${fault.column}`} className="fault">
            <strong>
              Line {fault.line}, column {fault.column}:
            </strong>{' '}
            {fault.finding}
          </p>
        ))}
        {faults.length === 0 && text !== null && (
          <p className="quiet">It is read as you type; the form shows the same.</p>
        )}
      </div>
    </section>
  );
}

/** Where a connector's name stands. */
const NAME = { line: 1, column: 1 };

const EMPTY = {
  source:
    'connector: \nsource:\n  connection: \n  tables:\n    - schema: public\n      table: \n      topic: \n  partitions: 3\n',
  topics: 'connector: \ntopics:\n  carries:\n    - topic: \n      to: \n  partitions: 3\n',
  sink: 'connector: \nsink:\n  connection: \n  topics:\n    - topic: \n      schema: public\n      table: \n',
};
