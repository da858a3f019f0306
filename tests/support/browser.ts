import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium, type Page } from 'playwright-core';
import { type House, PASSWORD } from './house.ts';

export interface Browser {
  page: Page;
  /** Errors of the page and its console, but for refusals that the page shows itself. */
  faults: string[];
  close(): Promise<void>;
}

/** A home in which programs that ask NSS trust an authority, as Chromium does. */
function homeThatTrusts(folder: string, rootFile: string): string {
  const database = join(folder, '.pki/nssdb');
  mkdirSync(database, { recursive: true });
  execFileSync('certutil', ['-d', `sql:${database}`, '-N', '--empty-password']);
  execFileSync('certutil', ['-d', `sql:${database}`, '-A', '-t', 'C,,', '-n', 'authority', '-i', rootFile]);
  return folder;
}

/** Debian's Chromium without a screen, with a profile of its own. `trusts`: the root of an authority as PEM; `hosts`: names and where they lead. */
export async function openBrowser({ trusts, hosts = {} }: { trusts?: string; hosts?: Record<string, string> } = {}): Promise<Browser> {
  const profile = mkdtempSync(join(tmpdir(), 'tenedor-browser-'));
  const context = await chromium.launchPersistentContext(profile, {
    executablePath: '/usr/bin/chromium',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
      `--host-resolver-rules=${Object.entries(hosts)
        .map(([name, address]) => `MAP ${name} ${address}`)
        .join(',')}`,
    ],
    ...(trusts === undefined ? {} : { env: { ...process.env, HOME: homeThatTrusts(profile, trusts) } }),
    viewport: { width: 1280, height: 800 },
    permissions: ['clipboard-read', 'clipboard-write'],
  });
  const page = context.pages()[0] ?? (await context.newPage());
  page.setDefaultTimeout(60_000);
  const faults: string[] = [];
  page.on('pageerror', (error) => faults.push(String(error)));
  page.on('console', (message) => {
    if (message.type() === 'error' && !/status of (401|404|409|412|422)/.test(message.text())) faults.push(message.text());
  });
  return {
    page,
    faults,
    close: async () => {
      await context.close();
      rmSync(profile, { recursive: true, force: true });
    },
  };
}

/** Until all that the page has asked for is there. */
export async function settled(page: Page): Promise<void> {
  await page.getByRole('heading', { level: 1 }).waitFor();
  await page.waitForFunction(() => !document.querySelector('.skeleton, .loading, [aria-busy="true"]'));
}

/** Signs in for the first time, as the operator. */
export async function signIn(page: Page, house: House): Promise<void> {
  await page.goto(`${house.api.url}/sign-in#${house.service.firstSignIn?.code}`);
  await page.getByLabel('New password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Set the password and sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
}
