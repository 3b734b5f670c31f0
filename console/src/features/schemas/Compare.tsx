import { Group, SegmentedControl, Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { Difference } from '../../shared/Difference';
import { difference } from '../../shared/difference';
import { ProblemNote } from '../../shared/ProblemNote';
import { Differences, Misfits } from './Misfits';
import { differenceQuery, type Schema } from './schemasQueries';
import { sideBySide } from './sides';
import { isUnknown, pretty } from './words';

/** Two versions: what changed in words, and their texts as one or side by side. */
export function Compare({ schema }: { schema: Schema }) {
  const [search, setSearch] = useSearchParams();
  const newest = schema.versions[0]?.version ?? 1;
  const to = Number(search.get('to') ?? newest);
  const from = Number(search.get('from') ?? Math.max(1, to - 1));
  const set = (key: string, value: string) =>
    setSearch(
      (before) => {
        before.set(key, value);
        return before;
      },
      { replace: true },
    );
  const look = search.get('look') === 'sides' ? 'sides' : 'one';
  const query = useQuery({ ...differenceQuery(schema.name, from, to), enabled: from !== to });
  if (schema.versions.length < 2) return <p className="quiet">There is one version: nothing to compare it with yet.</p>;
  const versions = schema.versions.map((v) => ({ value: String(v.version), label: `Version ${v.version}` }));
  const text = (version: number) => {
    const found = schema.versions.find((v) => v.version === version);
    return found ? pretty(schema, found.text) : '';
  };
  const choose = (label: string, value: number, key: string) => (
    <Select label={label} w={170} data={versions} value={String(value)} onChange={(v) => v && set(key, v)} />
  );
  const misfits = (half: 'past_reads' | 'reads_past') => (query.data ?? []).flatMap((d) => d[half]);
  const [past, reads] = [misfits('past_reads'), misfits('reads_past')];
  return (
    <>
      <Group align="end" mb="md">
        {choose('Earlier', from, 'from')}
        {choose('Later', to, 'to')}
      </Group>
      <ProblemNote problem={problemOf(query.error)} />
      {query.data && (
        <div className="stages" style={{ marginBottom: 16 }}>
          <section className="sheet" aria-label="In words">
            <h2>In words</h2>
            <div style={{ padding: '4px 16px 12px' }}>
              <Differences differences={query.data} />
            </div>
          </section>
          {past.length > 0 && (
            <section className="sheet" aria-label="Earlier readers">
              <h2>
                {isUnknown(past)
                  ? `Whether version ${from} can read data of ${to} cannot be judged`
                  : `Version ${from} cannot read data of ${to}`}
              </h2>
              <div style={{ padding: '4px 16px 12px' }}>
                <Misfits misfits={past} />
              </div>
            </section>
          )}
          {reads.length > 0 && (
            <section className="sheet" aria-label="Earlier data">
              <h2>
                {isUnknown(reads)
                  ? `Whether version ${to} can read data of ${from} cannot be judged`
                  : `Version ${to} cannot read data of ${from}`}
              </h2>
              <div style={{ padding: '4px 16px 12px' }}>
                <Misfits misfits={reads} />
              </div>
            </section>
          )}
        </div>
      )}
      <SegmentedControl
        size="xs"
        aria-label="How the texts are laid"
        data={[
          { value: 'one', label: 'As one text' },
          { value: 'sides', label: 'Side by side' },
        ]}
        value={look}
        onChange={(value) => set('look', value)}
      />
      {look === 'one' ? (
        <Difference before={text(from)} after={text(to)} />
      ) : (
        <Sides before={text(from)} after={text(to)} labels={[`Version ${from}`, `Version ${to}`]} />
      )}
    </>
  );
}

function Sides({ before, after, labels }: { before: string; after: string; labels: [string, string] }) {
  return (
    <div className="sides mono" tabIndex={0} role="region" aria-label="Side by side">
      <table>
        <thead>
          <tr>
            <th scope="col">{labels[0]}</th>
            <th scope="col">{labels[1]}</th>
          </tr>
        </thead>
        <tbody>
          {sideBySide(difference(before, after)).map(([left, right], n) => (
            <tr key={n}>
              <td data-kind={left?.kind}>{left?.text}</td>
              <td data-kind={right?.kind}>{right?.text}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
