import { expect, type Page } from '@playwright/test';

/** The items of the first page of a list. */
export async function items<T>(page: Page, path: string): Promise<T[]> {
  return ((await (await page.request.get(`/api/v1/${path}`)).json()) as { items: T[] }).items;
}

interface Operation {
  id: string;
  state: string;
  result: { records?: number };
}

/** What came of an operation that an answer began. */
export async function ended(page: Page, begun: { json(): Promise<unknown> }): Promise<Operation> {
  let operation = (await begun.json()) as Operation;
  const path = `/api/v1/operations/${operation.id}`;
  const now = async () => (operation = (await (await page.request.get(path)).json()) as Operation).state;
  await expect.poll(now).not.toBe('running');
  return operation;
}

/** Has what a request would do carried out, and gives the answer. */
export async function confirmed(page: Page, method: 'delete' | 'post', path: string, data?: object) {
  const look = await page.request[method](`/api/v1/${path}?dry_run=true`, { data });
  expect(look.status(), await look.text()).toBe(200);
  const { tag } = (await look.json()) as { tag: string };
  const done = await page.request[method](`/api/v1/${path}?confirm=${tag}`, { data });
  expect(done.ok(), await done.text()).toBe(true);
  return done;
}
