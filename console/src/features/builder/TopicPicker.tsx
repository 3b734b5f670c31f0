import { Loader, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Link } from 'react-router';

import { problemOf } from '../../api/client';
import { fits } from '../../shared/Filter';
import { count, counted } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { topicsQuery } from '../../shared/topicsQuery';
import type { Change } from './Stage';

/** Topics shown at a time; the search finds the others. */
const SHOWN = 200;

interface Props {
  chosen: string[];
  change: Change;
  /** Where the rows of a chosen topic go. */
  under: (topic: string) => ReactNode;
}

/** The topics that there are, to be ticked: the chosen ones first, and of those the ones that are not there before all. */
export function TopicPicker({ chosen, change, under }: Props) {
  const topics = useQuery(topicsQuery);
  const [filter, setFilter] = useState('');
  const ticked = new Set(chosen);
  const isChosen = (name: string) => ticked.has(name);
  const there = new Set((topics.data ?? []).map((t) => t.name));
  const missing = topics.data ? chosen.filter((name) => !there.has(name)) : [];
  const fitting = [...missing.map((name) => ({ name, records: null })), ...(topics.data ?? [])].filter((t) =>
    fits(filter, t.name),
  );
  const shown = [...fitting.filter((t) => isChosen(t.name)), ...fitting.filter((t) => !isChosen(t.name))];
  return (
    <>
      <ProblemNote problem={topics.data ? null : problemOf(topics.error)} />
      {topics.isFetching && !topics.data && <Loader size="sm" />}
      {topics.data?.length === 0 && missing.length === 0 && (
        <p>
          There is no topic yet. <Link to="/connectors/new?kind=source">Build a source</Link> first: it makes them.
        </p>
      )}
      {topics.data && topics.data.length + missing.length > 0 && (
        <>
          <TextInput
            placeholder="Search topics"
            aria-label="Search topics"
            value={filter}
            onChange={(e) => setFilter(e.currentTarget.value)}
          />
          <div className="picker" style={{ marginTop: 10 }}>
            {shown.slice(0, SHOWN).map((topic) => (
              <div className="pick" key={topic.name}>
                <label>
                  <input
                    type="checkbox"
                    checked={isChosen(topic.name)}
                    onChange={(e) => change({ type: 'topic', topic: topic.name, chosen: e.currentTarget.checked })}
                  />
                  <span className="mono" style={{ overflowWrap: 'anywhere' }}>
                    {topic.name}
                  </span>
                  {topic.records !== null && <span className="quiet number">{counted(topic.records, 'record')}</span>}
                </label>
                {topic.records === null && (
                  <div className="under">There is no such topic now: the connector waits until a source makes it.</div>
                )}
                {isChosen(topic.name) && under(topic.name)}
              </div>
            ))}
          </div>
          <p className="quiet">
            {count(chosen.length - missing.length)} of {count(topics.data.length)} chosen
            {missing.length > 0 && `, ${count(missing.length)} not there`}
          </p>
        </>
      )}
    </>
  );
}
