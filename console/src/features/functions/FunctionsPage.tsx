import { Button, Table } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';

import { problemOf } from '../../api/client';
import { Blank } from '../../shared/Blank';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { moveInList } from '../../shared/rowKeys';
import { When } from '../../shared/When';
import { functionListQuery, type Entry } from './functionsQueries';

/** Functions of one's own, and what uses them. */
export function FunctionsPage() {
  const query = useQuery({ ...functionListQuery, ...useKeptCurrent('function') });
  const make = (
    <Button component={Link} to="/functions/new">
      Write a function
    </Button>
  );
  return (
    <div className="page">
      <Heading
        title="Functions"
        says="Expressions under a name, which every shape, condition and rule can call like those built in."
        action={make}
      />
      <ProblemNote problem={query.data ? null : problemOf(query.error)} />
      {query.data?.length === 0 ? (
        <Blank title="No function of your own yet" action={make}>
          What is worked out the same way in several shapes is written once here, with examples that are tried whenever
          it changes.
        </Blank>
      ) : (
        query.data && (
          <div className="sheet">
            <FunctionsTable functions={query.data} />
          </div>
        )
      )}
    </div>
  );
}

function FunctionsTable({ functions }: { functions: Entry[] }) {
  const navigate = useNavigate();
  return (
    <Table.ScrollContainer minWidth={820}>
      <Table aria-label="Functions" onKeyDown={moveInList}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Function</Table.Th>
            <Table.Th>What it is for</Table.Th>
            <Table.Th>Used by</Table.Th>
            <Table.Th ta="right">Version</Table.Th>
            <Table.Th>Saved</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {functions.map((entry) => {
            const to = `/functions/${entry.function.name}`;
            return (
              <Table.Tr key={entry.function.name} className="openable" onClick={() => void navigate(to)}>
                <Table.Td maw={420} style={{ overflowWrap: 'anywhere' }}>
                  <Link className="name" data-row to={to} onClick={(event) => event.stopPropagation()}>
                    {entry.function.name}
                  </Link>
                  <div className="mono quiet">{entry.signature}</div>
                </Table.Td>
                <Table.Td maw={340}>{entry.function.description}</Table.Td>
                <Table.Td>{usersOf(entry) || <span className="quiet">nothing</span>}</Table.Td>
                <Table.Td className="number">{entry.version}</Table.Td>
                <Table.Td>
                  <When time={entry.saved_at} />
                </Table.Td>
              </Table.Tr>
            );
          })}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}

/** What uses a function, in words. */
export function usersOf(entry: Entry): string {
  return [...entry.used_by.map((c) => c.name), ...entry.called_by.map((f) => `${f}()`)].join(', ');
}
