import { Button, Table } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { FilterInput, useFilter } from '../../shared/Filter';
import { count } from '../../shared/format';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';
import { When } from '../../shared/When';
import { schemasQuery, type Summary } from './schemasQueries';
import { languageName, ruleShort } from './words';

/** All schemas: what they are for, who keeps them, and what they are bound to. */
export function SchemasPage() {
  const [filter, setFilter] = useFilter();
  const [search] = useDebouncedValue(filter.trim(), 150);
  const query = useInfiniteQuery({
    ...schemasQuery(search),
    ...useKeptCurrent('schema'),
    placeholderData: keepPreviousData,
  });
  const found = query.data?.pages.flatMap((page) => page.items) ?? [];
  const none = query.data !== undefined && found.length === 0;
  const make = (
    <Button component={Link} to="/schemas/new">
      Register a schema
    </Button>
  );
  return (
    <div className="page">
      <Heading
        title="Schemas"
        says="The shape of keys and values, version by version: what a change breaks is said before it is made."
        action={make}
      />
      <ProblemNote problem={query.data ? null : problemOf(query.error)} />
      {none && search === '' ? (
        <Blank title="No schema yet" action={make}>
          A source connector registers the schemas of its tables by itself. Write one for what applications append, or
          let one be inferred from a topic, a file or a table.
        </Blank>
      ) : (
        query.data && (
          <div className="sheet">
            <div className="tools">
              <FilterInput label="Name, owner, label or field" value={filter} onChange={setFilter} />
              <span className="quiet" role="status">
                {none ? 'Nothing contains it' : counted(found.length, query.hasNextPage)}
              </span>
            </div>
            <SchemasTable schemas={found} />
            {query.hasNextPage && (
              <div className="tools">
                <Button variant="default" loading={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>
                  Show more
                </Button>
              </div>
            )}
          </div>
        )
      )}
    </div>
  );
}

function counted(n: number, more: boolean): string {
  if (more) return `${count(n)} schemas and more`;
  return n === 1 ? '1 schema' : `${count(n)} schemas`;
}

function SchemasTable({ schemas }: { schemas: Summary[] }) {
  const navigate = useNavigate();
  return (
    <Table.ScrollContainer minWidth={820}>
      <Table aria-label="Schemas" onKeyDown={moveInList}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Name</Table.Th>
            <Table.Th>Language</Table.Th>
            <Table.Th ta="right">Version</Table.Th>
            <Table.Th>Rule</Table.Th>
            <Table.Th>Bound to</Table.Th>
            <Table.Th>Owner</Table.Th>
            <Table.Th>Changed</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {schemas.map((schema) => {
            const to = `/schemas/${encodeURIComponent(schema.name)}`;
            return (
              <Table.Tr key={schema.name} className="openable" onClick={() => void navigate(to)}>
                <Table.Td maw={380}>
                  <Link className="name" data-row to={to} onClick={(event) => event.stopPropagation()}>
                    {schema.name}
                  </Link>
                  {schema.retired_at && <span className="quiet"> retired</span>}
                  {(schema.fields ?? []).length > 0 && (
                    <div className="mono quiet" style={{ overflowWrap: 'anywhere' }}>
                      {(schema.fields ?? []).join(', ')}
                    </div>
                  )}
                </Table.Td>
                <Table.Td>{languageName(schema.language)}</Table.Td>
                <Table.Td className="number">{schema.version}</Table.Td>
                <Table.Td>{ruleShort(schema.rule)}</Table.Td>
                <Table.Td maw={260} style={{ overflowWrap: 'anywhere' }}>
                  {schema.topics.length === 0 ? (
                    <span className="quiet">no topic</span>
                  ) : (
                    schema.topics
                      .map(
                        (t) => `${t.role === 'key' ? 'keys' : 'values'} of ${t.topic}${t.required ? ', required' : ''}`,
                      )
                      .join('; ')
                  )}
                </Table.Td>
                <Table.Td>{schema.owner || <span className="quiet">nobody</span>}</Table.Td>
                <Table.Td>{schema.latest_at && <When time={schema.latest_at} />}</Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}
