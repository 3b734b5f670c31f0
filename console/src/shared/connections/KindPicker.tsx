import { TextInput } from '@mantine/core';
import { useState } from 'react';

import { fits } from '../Filter';
import { kindFor, type Kind, type Role } from './kinds';

interface Props {
  kinds: Kind[];
  /** What the connection is for; none for either. */
  role: Role | undefined;
  onPick: (kind: string) => void;
}

/** What a kind can be used for, in a few words. */
function ends(kind: Kind): string {
  if (kind.source && kind.sink) return 'Source and sink';
  return kind.source ? 'Source' : 'Sink';
}

/** The kinds of systems, found by their names, each with a line of what it can do and give. */
export function KindPicker({ kinds, role, onPick }: Props) {
  const [filter, setFilter] = useState('');
  const suitable = kinds.filter((kind) => kindFor(kind, role));
  const shown = suitable.filter((kind) => fits(filter, kind.name, kind.kind, kind.says));
  return (
    <div>
      <TextInput
        label="What kind of system is it?"
        placeholder="Search kinds"
        value={filter}
        onChange={(e) => setFilter(e.currentTarget.value)}
        onKeyDown={(e) => {
          if (e.key === 'Enter' && shown[0]) {
            e.preventDefault();
            onPick(shown[0].kind);
          }
        }}
        data-autofocus
        // in the builder it is one of several stages; alone it is what one came for
        autoFocus={role === undefined}
      />
      <div className="picker" role="list" aria-label="Kinds of systems" style={{ marginTop: 10 }}>
        {shown.map((kind) => (
          <div role="listitem" key={kind.kind}>
            <button type="button" className="choosing" onClick={() => onPick(kind.kind)}>
              <strong>{kind.name}</strong>
              <span className="quiet">{ends(kind)}</span>
              <span className="says">{kind.says}</span>
            </button>
          </div>
        ))}
        {shown.length === 0 && <p className="quiet">No kind of system is called so.</p>}
      </div>
    </div>
  );
}
