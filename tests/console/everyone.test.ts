import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type axe from 'axe-core';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { QueueItem } from '../../src/api/queue-schemas.ts';
import { startService } from '../../src/compose/running-service.ts';
import { startWorld } from '../../src/standins/demo-start.ts';
import type { World } from '../../src/standins/demo-world.ts';
import { type Browser, openBrowser, settled } from '../support/browser.ts';
import { PASSWORD } from '../support/house.ts';

/** The console for everyone: with a keyboard, a screen reader, a narrow window, in the dark; measured on the demo's data. */

let world: World;
let browser: Browser;
let page: Page;
let base: string;
let journey: string;
const folder = mkdtempSync(join(tmpdir(), 'tenedor-everyone-'));
const AXE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

beforeAll(async () => {
  world = await startWorld(
    { folder, startService },
    { smtp: 0, submission: 0, submissions: 0, imap: 0, imaps: 0, pop3: 0, pop3s: 0, web: 0 },
    true,
  );
  const { service } = world;
  base = world.webUrl.replace(/\/$/, '');
  journey = service.context.db.one<{ id: string }>('SELECT id FROM journey ORDER BY at DESC LIMIT 1')?.id ?? '';
  browser = await openBrowser();
  page = browser.page;
  await page.emulateMedia({ reducedMotion: 'reduce' });
  await page.goto(`${base}/sign-in#${service.firstSignIn?.code}`);
  await page.getByLabel('New password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Set the password and sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
  rmSync(folder, { recursive: true, force: true });
});

const PAGES: [address: string, heading: string | RegExp][] = [
  ['/', 'Overview'],
  ['/domains', 'Domains'],
  ['/domains/rutaverde.example', 'rutaverde.example'],
  ['/domains/coropuerto.example?tab=records', 'coropuerto.example'],
  ['/domains/olmobakery.example?tab=keys', 'olmobakery.example'],
  ['/domains/coropuerto.example?tab=history', 'coropuerto.example'],
  ['/domains/olmobakery.example?tab=mailboxes', 'olmobakery.example'],
  ['/domains/imprentalunar.example?tab=sending', 'imprentalunar.example'],
  ['/domains/olmobakery.example?tab=journal', 'olmobakery.example'],
  ['/domains/olmobakery.example?tab=settings', 'olmobakery.example'],
  ['/traffic', 'Traffic'],
  ['/traffic?tab=live', 'Traffic'],
  ['/traffic?tab=senders', 'Traffic'],
  ['/traffic?tab=explain', 'Traffic'],
  ['/traffic/JOURNEY', /./],
  ['/queue', 'Queue'],
  ['/outlets', 'Outlets'],
  ['/customers', 'Customers'],
  ['/certificates', 'Certificates'],
  ['/tests?number=1', 'Tests'],
  ['/tests?tab=messages&message=1', 'Tests'],
  ['/tests?tab=witnesses', 'Tests'],
  ['/upkeep', 'Upkeep'],
  ['/upkeep?tab=mail&transfer=1', 'Upkeep'],
  ['/upkeep?tab=configuration', 'Upkeep'],
  ['/upkeep?tab=updates', 'Upkeep'],
  ['/domains/velanorte.example?tab=move', 'velanorte.example'],
  ['/domains/olmobakery.example?tab=move', 'olmobakery.example'],
  ['/host', 'Host'],
  ['/access', 'Access'],
  ['/nowhere', 'No such page'],
];

async function faults(): Promise<string[]> {
  await page.evaluate(`globalThis.axe ?? (() => { ${AXE} })()`);
  const { violations } = await page.evaluate(() =>
    (globalThis as unknown as { axe: typeof axe }).axe.run(document, { resultTypes: ['violations'] }),
  );
  return violations.flatMap(({ id, nodes }) => nodes.map((node) => `${id}: ${node.html.slice(0, 160)}`));
}

async function shown(address: string, heading: string | RegExp): Promise<void> {
  await page.goto(base + address.replace('JOURNEY', journey));
  await page.getByRole('heading', { level: 1, name: heading }).waitFor();
  await settled(page);
}

it.each(PAGES)(
  '%s has no fault that axe knows, and nothing to scroll sideways for: light and wide, dark and narrow',
  async (address, heading) => {
    await shown(address, heading);
    // A theme changes colours and no places, a width places and no colours: two looks see all of both.
    for (const [width, colorScheme] of [
      [1280, 'light'],
      [390, 'dark'],
    ] as const) {
      await page.emulateMedia({ colorScheme, reducedMotion: 'reduce' });
      await page.setViewportSize({ width, height: 800 });
      expect(await faults(), `${colorScheme}, ${width}`).toEqual([]);
      expect(await sideways(), `${colorScheme}, ${width}`).toEqual([]);
    }
  },
);

/** What is wider than its place. */
const sideways = (): Promise<string[]> =>
  page.evaluate(() => {
    const scrolls = (one: Element): boolean => ['auto', 'scroll'].includes(getComputedStyle(one).overflowX);
    const wide = [...document.querySelectorAll('main, main *, aside, aside *')].filter(
      (one) => scrolls(one) && one.clientWidth > 0 && one.scrollWidth > one.clientWidth + 1,
    );
    const root = document.documentElement;
    return [...(root.scrollWidth > root.clientWidth ? ['the page'] : []), ...wide.map((one) => one.outerHTML.slice(0, 120))];
  });

it('dialogs are clean as well', async () => {
  await page.setViewportSize({ width: 390, height: 800 });
  for (const [address, heading, button] of [
    ['/domains', 'Domains', 'Add a domain'],
    ['/domains/coropuerto.example?tab=records', 'coropuerto.example', 'Letter to the customer …'],
    ['/domains/olmobakery.example?tab=mailboxes', 'olmobakery.example', 'Add a mailbox'],
    ['/domains/olmobakery.example?tab=mailboxes', 'olmobakery.example', 'Folders and devices of ana@olmobakery.example'],
    ['/domains/olmobakery.example?tab=mailboxes', 'olmobakery.example', 'Load a list'],
    ['/domains/olmobakery.example?tab=mailboxes', 'olmobakery.example', 'Client settings of ana@olmobakery.example'],
    ['/customers', 'Customers', 'Add a plan'],
    ['/certificates', 'Certificates', 'Add a certificate'],
    ['/certificates', 'Certificates', 'Show mail.olmobakery.example'],
    ['/host', 'Host', 'Set a zone'],
  ] as const) {
    await shown(address, heading);
    await page.getByRole('button', { name: button }).click();
    await page.getByRole('dialog').waitFor();
    await settled(page);
    expect(await faults(), String(button)).toEqual([]);
  }
});

it.each([
  '/#%E0',
  '/?search=%E0%A4',
  '/domains/%E0%A4%A',
  '/domains/..%2f..%2fetc',
  '/traffic/%00',
  '/%2e%2e/',
  '/domains/x.example?tab=nothing',
  '/domains?offset=-5&sort=nothing',
  '/queue?held=nonsense',
  '/traffic?since=tomorrow',
  '/traffic/<script>alert(1)</script>',
])('an odd address, %s, leads to a page that says something', async (address) => {
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.goto(base + address);
  await settled(page);
  expect(await page.getByRole('main').textContent()).toMatch(/\S{3}/);
});

it('domains are sorted by a click on a heading, and the address keeps it', async () => {
  await shown('/domains', 'Domains');
  const first = () => page.getByRole('row').nth(1).getByRole('link').textContent();
  const sortedBy = (name: string) =>
    expect.poll(() => page.getByRole('columnheader', { name, exact: true }).getAttribute('aria-sort')).toBe('ascending');
  await page.getByRole('button', { name: 'Readiness' }).click();
  await expect.poll(first).toBe('velanorte.example');
  await page.waitForURL(/sort=readiness/);
  await sortedBy('Readiness');
  await page.getByRole('button', { name: 'Domain', exact: true }).click();
  await sortedBy('Domain');
  await page.getByRole('button', { name: 'Domain', exact: true }).click();
  await expect.poll(first).toBe('velanorte.example');
  await page.waitForURL(/reverse=true/);
});

it('the queue is sorted by its headings, both ways, and the address keeps it', async () => {
  const rows = (asked: string): Promise<QueueItem[]> =>
    page.evaluate(async (query) => (await (await fetch(`/api/v1/queue?held=any&${query}`)).json()).rows, asked);
  const times = async (asked: string) => (await rows(asked)).map((row) => row.acceptedAt);
  const down = (await times('sort=accepted')).sort((one, other) => other - one);
  expect(new Set(down).size).toBeGreaterThan(1);
  expect(await times('sort=accepted&reverse=true')).toEqual(down);
  const sizes = (await rows('sort=size')).map((row) => row.size);
  expect(sizes).toEqual(sizes.toSorted((one, other) => other - one));
  // One page after the other leaves none out, however many are alike.
  const pages = await Promise.all(sizes.map((_, offset) => rows(`sort=attempts&limit=1&offset=${offset}`)));
  expect(new Set(pages.flat().map((row) => row.id)).size).toBe(sizes.length);

  await shown('/queue?held=any', 'Queue');
  const heading = page.getByRole('columnheader', { name: 'To', exact: true });
  await heading.getByRole('button').click();
  await expect.poll(() => heading.getAttribute('aria-sort')).toBe('ascending');
  await heading.getByRole('button').click();
  await expect.poll(() => heading.getAttribute('aria-sort')).toBe('descending');
  await page.waitForURL(/sort=recipient&reverse=true/);
  const last = (await rows('sort=recipient&reverse=true'))[0];
  await page
    .getByRole('row')
    .filter({ has: page.getByLabel(`Choose ${last?.journeyId} to ${last?.address}`) })
    .waitFor();
  // In a narrow window there are no headings.
  await page.getByLabel('Order of messages').selectOption('by size');
  await page.waitForURL(/sort=size/);
  expect(page.url()).not.toContain('reverse');
});

it('several messages of the queue are chosen and dropped at once', async () => {
  await shown('/queue?held=any', 'Queue');
  const { db } = world.service.context;
  const held = () => db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE held IS NOT NULL')?.n ?? 0;
  expect(held()).toBeGreaterThan(3);
  await page.getByLabel('Choose all messages that are shown').check();
  await page.getByRole('button', { name: 'Drop the selected …' }).click();
  await page.getByRole('dialog').getByRole('button', { name: 'Drop', exact: true }).click();
  await expect.poll(held).toBe(0);
});
