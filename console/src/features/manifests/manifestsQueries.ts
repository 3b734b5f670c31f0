/** Manifests compared with what is there, written, and applied. */
import { answered, api, getText, ProblemError, readLines } from '../../api/client';
import { exportUrl } from '../../shared/exporting';
import { endedEarly, isWhole, type File, type Outcome, type Plan, type Secrets } from './manifests';

export function comparePlan(files: File[], prune: boolean, secrets: Secrets): Promise<Plan> {
  return answered(api.POST('/api/v1/manifests/plan', { body: { files, prune, secrets } }));
}

/** What is there, as text. */
export function written(): Promise<string> {
  return getText(exportUrl());
}

/**
 * Applies them; each step is told as it is done. Aborted, it ends after the step that is under way. Where the server goes away, that is
 * told with how far it came. `mark` is that of the plan which was shown: another one is not carried out.
 */
export async function apply(
  files: File[],
  prune: boolean,
  secrets: Secrets,
  mark: string,
  signal: AbortSignal,
  done: (outcome: Outcome) => void,
): Promise<void> {
  const body = JSON.stringify({ files, prune, secrets, mark });
  let last: Outcome | null = null;
  const take = (line: string) => {
    const outcome = JSON.parse(line) as Partial<Outcome>;
    // a server that stops says so in a line of its own
    if (outcome.number === undefined) return;
    last = outcome as Outcome;
    done(last);
  };
  try {
    await readLines('/api/v1/manifests/apply', body, signal, take);
  } catch (error) {
    if (error instanceof ProblemError) throw error;
  }
  if (signal.aborted || isWhole(last)) return;
  throw new ProblemError(endedEarly(last));
}
