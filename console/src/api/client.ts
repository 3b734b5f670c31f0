import { EventSourceParserStream } from 'eventsource-parser/stream';
import createClient from 'openapi-fetch';

import type { components, paths } from './types';

export type Schemas = components['schemas'];
export type Problem = Schemas['Problem'];

/** A refused request, as the server's problem document says it; or no answer at all. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

/** The field or the parameter that a problem is about, by its own name; none if it is about all of it. */
export function fieldOf(problem: Problem | null | undefined): string | null {
  const error = problem?.errors?.[0];
  return error?.parameter ?? error?.pointer?.split('/').pop() ?? null;
}

/** Where in a text that was sent something is wrong. */
export function faultOf(problem: Problem | null): Schemas['SchemaFault'] | null {
  const at = problem?.errors?.find((error) => error.line != null);
  return at ? { line: at.line ?? 1, column: at.column ?? 1, finding: at.finding } : null;
}

/** What to do, where it says more than the finding does. */
export function remedyOf(problem: Problem): string | null {
  return problem.type.endsWith('/invalid') ? null : problem.remedy;
}

/** The header that a change is for what is at this revision, and for nothing else. */
export function at(revision: number) {
  return { 'If-Match': `"${revision}"` };
}

export const api = createClient<paths>({ baseUrl: '/' });

/** Where the viewer's name is kept, which histories show. */
export const WHO = 'gonvel.who';

api.use({
  onRequest({ request }) {
    const who = request.method === 'GET' ? null : localStorage.getItem(WHO);
    if (who) request.headers.set('gonvel-who', encodeURIComponent(who));
    return request;
  },
});

const unreachable: Problem = {
  type: '/no-answer',
  title: 'Gonvel does not answer',
  status: 0,
  detail: 'The server did not answer.',
  remedy: 'Check that it runs; this page tries again by itself.',
  checks: [],
};

function isProblem(body: unknown): body is Problem {
  return typeof body === 'object' && body !== null && 'detail' in body && 'title' in body;
}

/** The data of an answer, or a {@link ProblemError}. */
export async function answered<T>(request: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await request;
  } catch {
    throw new ProblemError(unreachable);
  }
  if (answer.response.ok) return answer.data as T;
  if (isProblem(answer.error)) throw new ProblemError({ ...answer.error, checks: answer.error.checks ?? [] });
  throw new ProblemError({ ...unreachable, status: answer.response.status });
}

export interface Page<T> {
  items: T[];
  next?: string | null;
}

/** What is asked for a page of a list that is read as a whole. */
export interface Paging {
  limit: number;
  cursor?: string;
}

const LARGEST_PAGE = 10_000;

/** All of a list, page by page; a page has fewer items where a list gives no more at once. */
export async function everything<T>(page: (paging: Paging) => Promise<Page<T>>, limit = LARGEST_PAGE): Promise<T[]> {
  const items: T[] = [];
  let cursor: string | undefined;
  do {
    const { items: found, next } = await page({ limit, cursor });
    items.push(...found);
    cursor = next ?? undefined;
  } while (cursor !== undefined);
  return items;
}

export type Plan = Schemas['Plan'];

/** What a request does, asked or confirmed: with the tag of its plan it is carried out. */
export function asPlanned(tag: string | null) {
  return tag === null ? { dry_run: true } : { confirm: tag };
}

/** The problem behind anything thrown. */
export function problemOf(error: unknown): Problem | null {
  if (error === null || error === undefined) return null;
  if (error instanceof ProblemError) return error.problem;
  return { ...unreachable, title: 'Something in this page failed', detail: String(error), remedy: 'Reload the page.' };
}

function refused(status: number, body: unknown): ProblemError {
  if (isProblem(body)) return new ProblemError({ ...body, checks: body.checks ?? [] });
  return new ProblemError({ ...unreachable, status });
}

/** Posts JSON text as it is: figures in it are not read and written again. */
export async function postText<T>(url: string, json: string): Promise<T> {
  const headers = { 'content-type': 'application/json' };
  const answer = await fetch(url, { method: 'POST', headers, body: json }).catch(() => {
    throw new ProblemError(unreachable);
  });
  const body = (await answer.json().catch(() => null)) as unknown;
  if (!answer.ok) throw refused(answer.status, body);
  return body as T;
}

/** Reads server-sent events with what a refusal says, which the browser's own reader keeps to itself. */
export async function readEvents(
  url: string,
  signal: AbortSignal,
  take: (name: string, data: string) => void,
): Promise<void> {
  const answer = await fetch(url, { signal, headers: { accept: 'text/event-stream' } });
  if (!answer.ok || answer.body === null) throw refused(answer.status, await answer.json().catch(() => null));
  const events = answer.body.pipeThrough(new TextDecoderStream()).pipeThrough(new EventSourceParserStream());
  const reader = events.getReader();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    take(value.event ?? 'message', value.data);
  }
}

/** A text that is no JSON. */
export async function getText(url: string): Promise<string> {
  const answer = await fetch(url).catch(() => {
    throw new ProblemError(unreachable);
  });
  if (!answer.ok) throw refused(answer.status, await answer.json().catch(() => null));
  return answer.text();
}
