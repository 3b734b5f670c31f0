/** Manifests compared with what is there, written, and applied. */
import { answered, api, asPlanned, getText, type Schemas } from '../../api/client';
import { exportUrl } from '../../shared/exporting';
import type { Operation } from '../../shared/operations/operations';
import type { File, Plan, Secrets } from './manifests';

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

/** Begins to apply them. `tag` is that of the plan which was shown: another one is not carried out. */
export function apply(files: File[], prune: boolean, secrets: Secrets, tag: string): Promise<Operation> {
  const params = { query: asPlanned(tag) };
  const body = { files, prune, secrets };
  return answered(api.POST('/api/v1/manifests/apply', { params, body })) as Promise<Operation>;
}
