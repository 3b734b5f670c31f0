/** Manifests compared with what is there, written, and applied. */
import { answered, api, asPlanned, getText, ProblemError, readLines, type Schemas } from '../../api/client';
import { exportUrl } from '../../shared/exporting';
import { endedEarly, isWhole, type File, type Outcome, type Plan, type Secrets } from './manifests';

/** What they would change, and the tag that confirms it. */
export async function comparePlan(files: File[], prune: boolean, secrets: Secrets): Promise<Plan> {
  const query = asPlanned(null);
  const body = { files, prune, secrets };
  const asked = answered(api.POST('/api/v1/manifests/apply', { params: { query }, body })) as Promise<unknown>;
  const { tag, installation } = (await asked) as Schemas['Plan'];
  if (!installation) throw new Error('the server gave no plan of an installation');
  return { tag, ...installation };
}

/** What is there, as text. */
export function written(): Promise<string> {
  return getText(exportUrl());
}

/**
 * Applies them; each step is told as it is done. Aborted, it ends after the step that is under way. Where the server goes away, that is
 * told with how far it came. `tag` is that of the plan which was shown: another one is not carried out.
 */
export async function apply(
  files: File[],
  prune: boolean,
  secrets: Secrets,
  tag: string,
  signal: AbortSignal,
  done: (outcome: Outcome) => void,
): Promise<void> {
  const body = JSON.stringify({ files, prune, secrets });
  let last: Outcome | null = null;
  const take = (line: string) => {
    const outcome = JSON.parse(line) as Partial<Outcome>;
    // a server that stops says so in a line of its own
    if (outcome.number === undefined) return;
    last = outcome as Outcome;
    done(last);
  };
  try {
    await readLines(`/api/v1/manifests/apply?confirm=${tag}`, body, signal, take);
  } catch (error) {
    if (error instanceof ProblemError) throw error;
  }
  if (signal.aborted || isWhole(last)) return;
  throw new ProblemError(endedEarly(last));
}
