import type { Page } from '@playwright/test';

/** The items of the first page of a list. */
export async function items<T>(page: Page, path: string): Promise<T[]> {
  return ((await (await page.request.get(`/api/v1/${path}`)).json()) as { items: T[] }).items;
}
