/** Manifests compared with what is there, written, and applied. */
import { answered, api, getText, readLines } from '../../api/client';
import { exportUrl, type File, type Outcome, type Plan, type Secrets } from './manifests';

export function comparePlan(files: File[], prune: boolean, secrets: Secrets): Promise<Plan> {
  return answered(api.POST('/api/v1/manifests/plan', { body: { files, prune, secrets } }));
}

/** What is there, as text. */
export function written(): Promise<string> {
  return getText(exportUrl());
}

/** Applies them; each step is told as it is done. Aborted, it ends after the step that is under way. */
export async function apply(
  files: File[],
  prune: boolean,
  secrets: Secrets,
  signal: AbortSignal,
  done: (outcome: Outcome) => void,
): Promise<void> {
  const body = JSON.stringify({ files, prune, secrets });
  await readLines('/api/v1/manifests/apply', body, signal, (line) => done(JSON.parse(line) as Outcome));
}
