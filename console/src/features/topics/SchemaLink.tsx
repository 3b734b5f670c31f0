import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { schemaOfRecordQuery } from './topicsQueries';

/** The version that a record was written with. */
export function SchemaLink({ id }: { id: number }) {
  const found = useQuery(schemaOfRecordQuery(id)).data;
  if (!found) return <>schema {id}</>;
  return (
    <Link to={`/schemas/${encodeURIComponent(found.name)}?version=${found.version}`}>
      {found.name} version {found.version}
    </Link>
  );
}
