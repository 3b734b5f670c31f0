/** What a reader of screens, or one who sees little, could not use of a page: nothing. */
import AxeBuilder from '@axe-core/playwright';
import { expect, type Page } from '@playwright/test';

export async function accessible(page: Page) {
  // there are no frames, for which it would open a page of its own each time
  const found = await new AxeBuilder({ page })
    .setLegacyMode()
    .options({ runOnly: ['wcag2a', 'wcag2aa'], resultTypes: ['violations'] })
    .analyze();
  expect(found.violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.target.join(' ')).join(', ')}`)).toEqual([]);
}
