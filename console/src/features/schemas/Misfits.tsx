import type { Schemas } from '../../api/client';

/** What does not fit: where, what, by which rule, and what would make it pass. */
export function Misfits({ misfits }: { misfits: Schemas['SchemaMisfit'][] }) {
  return (
    <ul className="misfits">
      {misfits.map((m, n) => (
        <li key={n}>
          <span className="mono">{m.path}</span> {m.finding}.
          {!m.unknown && <div className="quiet">Rule: {m.rule}.</div>}
          <div>
            {m.unknown ? 'To be judged' : 'To pass'}: {m.remedy}.
          </div>
        </li>
      ))}
    </ul>
  );
}

/** Changes between two versions, each with what it breaks. */
export function Differences({ differences }: { differences: Schemas['SchemaDifference'][] }) {
  if (differences.length === 0) return <p className="quiet">Nothing that data would show.</p>;
  return (
    <ul className="misfits">
      {differences.map((d, n) => (
        <li key={n}>
          <span className="mono">{d.path}</span> {d.words}
          {d.breaks ? (
            <strong className="breaks"> ▲ {d.breaks}</strong>
          ) : (
            <span className="quiet"> · breaks nothing</span>
          )}
        </li>
      ))}
    </ul>
  );
}
