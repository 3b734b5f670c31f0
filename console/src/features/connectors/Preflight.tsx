import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';

import { problemOf } from '../../api/client';
import { Checks } from '../../shared/Checks';
import type { Connector } from '../../shared/liveConnectors';
import { ProblemNote } from '../../shared/ProblemNote';
import { When } from '../../shared/When';
import { checkAgain, mendFor, preflightQuery } from './connectorsQueries';

/** The report of the connector's last preflight, which can be run again. */
export function Preflight({ connector }: { connector: Connector }) {
  const queries = useQueryClient();
  const query = preflightQuery(connector.id);
  const kept = useQuery(query);
  const again = useMutation({
    mutationFn: () => checkAgain(connector.id),
    onSuccess: (report) => queries.setQueryData(query.queryKey, report),
  });
  const mending = useMutation({
    mutationFn: (check: string) => mendFor(connector, check),
    onSuccess: () => again.mutate(),
  });
  const report = kept.data;
  const warnings = report?.checks.filter((c) => c.outcome === 'warning').length ?? 0;
  const failed = report?.checks.filter((c) => c.outcome === 'failed').length ?? 0;
  return (
    <section className="sheet" aria-label="Preflight" style={{ marginTop: 18 }}>
      <h2>Preflight</h2>
      <div style={{ padding: '12px 16px 16px' }}>
        <div style={{ display: 'flex', alignItems: 'center', gap: 12, marginBottom: 8 }}>
          <span style={{ flex: 1 }}>
            {report ? (
              <>
                {failed > 0
                  ? `${failed} of ${report.checks.length} checks failed`
                  : warnings > 0
                    ? `It may run; ${warnings} of ${report.checks.length} checks warn`
                    : 'Everything it needs is there'}
                , checked <When time={report.at} /> in {report.took_ms} ms.
              </>
            ) : (
              kept.isSuccess && <span className="quiet">It was not checked yet.</span>
            )}
          </span>
          <Button variant="default" size="sm" loading={again.isPending} onClick={() => again.mutate()}>
            {report ? 'Check again' : 'Check now'}
          </Button>
        </div>
        <ProblemNote problem={problemOf(again.error) ?? problemOf(mending.error) ?? problemOf(kept.error)} />
        {report && (
          <Checks
            checks={report.checks}
            onMend={(check) => mending.mutate(check)}
            mending={mending.isPending ? mending.variables : null}
          />
        )}
      </div>
    </section>
  );
}
