import { around, difference } from './difference';

const MARK = { same: ' ', gone: '−', new: '+' };
const WORD = { same: '', gone: 'gone: ', new: 'new: ' };

/** Two texts as one, with what went and what came. */
export function Difference({ before, after }: { before: string; after: string }) {
  return (
    <pre tabIndex={0} className="difference mono" aria-label="Difference">
      {around(difference(before, after), 2).map((line, n) =>
        line ? (
          <div key={n} data-kind={line.kind}>
            <span aria-hidden>{MARK[line.kind]} </span>
            <span className="visually-hidden">{WORD[line.kind]}</span>
            {line.text}
          </div>
        ) : (
          <div key={n} className="quiet">
            …
          </div>
        ),
      )}
    </pre>
  );
}
