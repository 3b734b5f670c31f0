import { expect, type Page } from '@playwright/test';

import { accessible } from '../support/accessible';
import { withDemo } from '../support/demo';
import { items } from '../support/interface';

const test = withDemo();

test.describe.configure({ mode: 'serial' });

const long = `lane-${'averling'.repeat(24)}-9`.slice(0, 200).padEnd(200, 'x');

/** 300 connectors that do not run and 10,000 topics, one of each with the longest name there may be. */
const crowd = `
  INSERT INTO topics (name, partitions) SELECT 'orchard.row-' || n, 3 FROM generate_series(1, 9999) n;
  INSERT INTO topics (name, partitions) VALUES ('${long}', 1);
  INSERT INTO topic_partitions (topic_id, partition) SELECT id, p FROM topics, generate_series(0, partitions - 1) p
    ON CONFLICT DO NOTHING;
  INSERT INTO connectors (id, name, connection_id, definition, wish)
    SELECT gen_random_uuid(), CASE n WHEN 300 THEN '${long}' ELSE 'sink-' || n END, c.id,
      jsonb_build_object('kind', 'sink', 'connection', c.id, 'topics',
        jsonb_build_array(jsonb_build_object('topic', 'orchard.row-' || n, 'schema', 'public', 'table', 'row_' || n))), 'draft'
    FROM generate_series(1, 300) n, connections c WHERE c.name = 'settlement';
  INSERT INTO lanes (connector_id, lane) SELECT id, 0 FROM connectors ON CONFLICT DO NOTHING`;

async function noSidewaysScroll(page: Page) {
  const wider = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
  expect(wider, page.url()).toBeLessThanOrEqual(0);
}

test('every view is accessible in light and dark', async ({ page }) => {
  const connectors = await items<{ id: string }>(page, 'connectors');
  const views = [
    '/flow',
    '/connectors',
    `/connectors/${connectors[0]?.id}`,
    '/topics',
    '/schemas',
    '/schemas/new',
    '/schemas/coldstore.event',
    '/schemas/coldstore.event/difference',
    '/schemas/coldstore.event/draft',
    '/schemas/coldstore.event/about',
    '/readers',
    '/quarantine',
    '/runners',
    '/manifests',
    `/connectors/${connectors[0]?.id}/log`,
    `/connectors/${connectors[0]?.id}/positions`,
    `/connectors/${connectors[0]?.id}/history`,
    '/connections',
    '/connectors/new',
    '/connectors/new?kind=sink',
    `/connectors/${connectors[0]?.id}/edit`,
    '/topics/coldstore.readings/publish',
    '/connectors/new?kind=sink&topics=coldstore.readings&rows=coldstore.readings',
    `/connectors/${connectors[0]?.id}/edit?as=manifest`,
  ];
  for (const scheme of ['light', 'dark'] as const) {
    await page.emulateMedia({ colorScheme: scheme });
    for (const view of scheme === 'light' ? views : views.slice(0, 3)) {
      await page.goto(view);
      await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
      await page.waitForTimeout(400);
      await accessible(page);
    }
    await page.goto('/topics/packhouse.growers');
    await expect(page.getByRole('article').first()).toBeVisible();
    await accessible(page);
  }
});

test('300 connectors and 10,000 topics stay usable by keyboard, with the longest names', async ({ page, demo }) => {
  demo.sql('gonvel', crowd);
  await page.goto('/topics');
  await expect(page.getByText('10,006 of 10,006')).toBeVisible();
  // only rows near the window are drawn, and the last can be reached
  expect(await page.getByRole('row').count()).toBeLessThan(80);
  await page.evaluate(() => window.scrollTo(0, document.body.scrollHeight));
  await expect(page.getByRole('link', { name: 'packhouse.schema-changes' })).toBeVisible();
  await page.getByLabel('Topic or connector').fill('row-7777');
  await expect(page.getByText('1 of 10,006')).toBeVisible();
  await page.getByRole('link', { name: 'orchard.row-7777' }).focus();
  await page.keyboard.press('Enter');
  await expect(page.getByText('No record here yet')).toBeVisible();
  await page.keyboard.press('Escape');
  await expect(page).toHaveURL(/\/topics$/);

  await page.goto('/connectors');
  await expect(page.getByText('304 of 304')).toBeVisible();
  await page.getByRole('link', { name: 'packhouse-changes' }).focus();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowUp');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { name: 'packhouse-changes' })).toBeVisible();

  // the finder goes anywhere, also when Enter comes before the topics do
  await page.route('**/api/v1/topics?*', async (route) => {
    await new Promise((resolve) => setTimeout(resolve, 2_000));
    await route.continue();
  });
  await page.reload();
  await expect(page.getByRole('heading', { name: 'packhouse-changes' })).toBeVisible();
  await page.keyboard.press('Control+k');
  await page.getByLabel('Find', { exact: true }).fill('row-4242');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/orchard\.row-4242/);
  await page.unroute('**/api/v1/topics?*');

  for (const path of [`/topics/${long}`, '/flow', '/connectors?q=averling', '/topics?q=averling']) {
    await page.goto(path);
    await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
    await page.waitForTimeout(300);
    await noSidewaysScroll(page);
  }
  // 200 % zoom of 1280 x 800
  await page.setViewportSize({ width: 640, height: 400 });
  for (const path of ['/flow', '/connectors', '/topics', '/connectors/new', '/topics/packhouse.bins']) {
    await page.goto(path);
    await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
    await page.waitForTimeout(300);
    await noSidewaysScroll(page);
  }
});

test('with the database stopped the page says so, and goes on when it is back', async ({ page, demo }) => {
  await page.goto('/topics?q=packhouse');
  await expect(page.getByRole('link', { name: 'packhouse.bins' })).toBeVisible();
  demo.stopDatabase();
  const health = await page.request.get('/api/v1/health');
  expect(health.status()).toBe(503);
  await page.goto('/topics?q=packhouse');
  await expect(page.getByRole('alert')).toContainText('own database does not answer');
  demo.startDatabase();
  await expect(page.getByRole('link', { name: 'packhouse.bins' })).toBeVisible();
  await page.goto('/connectors?q=settlement-tables');
  await expect(page.getByText('following')).toBeVisible();
});
