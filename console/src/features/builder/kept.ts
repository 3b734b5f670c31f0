/** An unfinished draft as it is kept, and as it comes back. */
import type { Schemas } from '../../api/client';
import { begin, FAILING, LOAD, PLACING, VALUES, WRITES, type Draft, type SystemChoice } from './builder';

type Work = Schemas['DraftRequest']['work'];

/** What is kept: the draft, and a manifest that was typed and cannot be read. */
export function work(draft: Draft, text: string | null): Work {
  return { draft, text } as unknown as Work;
}

/**
 * What was kept, as the builder takes it. What an earlier builder did not know yet is as it usually is; a system that is not
 * there any more is to be chosen again.
 */
export function opened(
  { kind, work: kept }: Pick<Schemas['UnfinishedDraft'], 'kind' | 'work'>,
  systems: readonly SystemChoice[],
): { draft: Draft; text: string | null } {
  const { draft: before = {}, text = null } = kept as { draft?: Partial<Draft>; text?: string | null };
  const draft = { ...begin(kind), ...before, kind } as Draft;
  draft.system = systems.find((s) => s.id === before.system?.id) ?? null;
  draft.placing = { ...PLACING, ...draft.placing };
  draft.failing = { ...FAILING, ...draft.failing };
  if (draft.kind === 'source') draft.load = { ...LOAD, ...draft.load };
  if (draft.kind === 'sink') draft.writes = { ...WRITES, ...draft.writes };
  else draft.values = { ...VALUES, ...draft.values };
  return { draft, text };
}
