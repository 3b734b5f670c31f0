import { Loader } from '@mantine/core';

import type { Schemas } from '../../api/client';
import { around, compared, fate, gone, leaves, telling, type Cell } from './shape';

/** Rows shown beside each other. */
const SHOWN = 3;

interface Props {
  tried: Schemas['TriedShape'] | undefined;
  waiting: boolean;
  /** The step that is looked at; null for all of them together. */
  step: number | null;
  /** How many of the rows, the last ones, a person made. */
  made: number;
}

/** Real rows before and after a step, cell by cell, and what becomes of each. */
export function Sample({ tried, waiting, step, made }: Props) {
  if (!tried) return waiting ? <Loader size="sm" /> : null;
  if (tried.rows.length === 0) return <p className="quiet">{tried.no_rows ?? 'There is no row to try it on yet.'}</p>;
  const { before, after } = around(tried, step);
  const cells = compared(before, after);
  const away = gone(before.columns, after.columns);
  const shown = telling(tried, SHOWN, made);
  const real = tried.rows.length - made;
  return (
    <>
      <div className="sample" tabIndex={0} role="region" aria-label="Rows before and after" aria-busy={waiting}>
        <table>
          <thead>
            <tr>
              <th scope="col">Column</th>
              {shown.map((n) => {
                const { words, tone } = fate(tried.outcomes[n], leaves(tried, n));
                return (
                  <th scope="col" key={n} className="fate" data-tone={tone}>
                    {n < real ? `Row ${n + 1}` : `Made row ${n - real + 1}`}
                    {words && <div>{words}</div>}
                  </th>
                );
              })}
            </tr>
          </thead>
          <tbody>
            {after.columns.map((column, place) => {
              const row = shown.map((n) => cells[n]?.[place]);
              return (
                <tr key={column.name} data-new={row.some((c) => c?.isNew) || undefined}>
                  <th scope="row">
                    <span className="mono">{column.name}</span>
                    <div className="quiet mono">
                      {column.type}
                      {column.key && ' · key'}
                    </div>
                  </th>
                  {row.map((cell, n) => (
                    <td key={n} className="mono cell" data-out={after.rows[shown[n] ?? 0]?.there ? undefined : true}>
                      {cell && <Values cell={cell} />}
                    </td>
                  ))}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {away.length > 0 && (
        <p className="quiet">
          {step === null ? 'Taken away' : 'This step takes away'}: <span className="mono">{away.join(', ')}</span>
        </p>
      )}
    </>
  );
}

function Values({ cell }: { cell: Cell }) {
  const text = (value: string | null) => (value === null ? <span className="quiet">null</span> : value);
  if (cell.isNew)
    return (
      <span className="came" title={cell.value ?? 'null'}>
        {text(cell.value)}
      </span>
    );
  if (cell.was === undefined) return <span title={cell.value ?? 'null'}>{text(cell.value)}</span>;
  return (
    <>
      <s className="quiet" title={cell.was ?? 'null'}>
        {cell.was ?? 'null'}
      </s>
      <br />
      <span className="came" title={cell.value ?? 'null'}>
        {text(cell.value)}
      </span>
    </>
  );
}
