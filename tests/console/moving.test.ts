import { createHash } from 'node:crypto';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { accountsOf } from '../../console/parts/server-fields.tsx';
import { mboxEntry } from '../../src/core/transfer/mbox.ts';
import { type Browser, openBrowser, signIn } from '../support/browser.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';

let house: House;
let browser: Browser;
let page: Page;
let folder: string;

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-moving-'));
  house = await openHouse({ more: '[backup]\ntarget = "backups"\nevery_hours = 0\n' });
  await house.provide('shop.example', ['ana', 'leo']);
  browser = await openBrowser();
  page = browser.page;
  await signIn(page, house);
});
afterAll(async () => {
  await browser?.close();
  await house?.close();
  rmSync(folder, { recursive: true, force: true });
});

const open = (path: string) => page.goto(house.api.url + path);
const button = (name: string | RegExp) => page.getByRole('button', { name, exact: true });
const inDialog = (name: string) => page.getByRole('dialog').getByRole('button', { name, exact: true });

it('files are imported, with what was left out and why; a mailbox is exported; both stand in the list', async () => {
  writeFileSync(join(folder, 'old.mbox'), Buffer.concat([1, 2, 3].map((one) => mboxEntry(Buffer.from(`Subject: ${one}\r\n\r\n`), '', 0))));
  writeFileSync(join(folder, 'notes.txt'), 'no mail');
  await open('/upkeep?tab=mail');
  await page.getByText('There are no transfers yet.').waitFor();
  await button('Import files').click();
  await page.getByLabel('Path on the server').fill('relative');
  await page.getByLabel('Mailbox', { exact: true }).fill('ana@shop.example');
  await inDialog('Import').click();
  await page.getByRole('alert').getByText('“relative” is not an absolute path.').waitFor();
  await page.getByLabel('Path on the server').fill(folder);
  await inDialog('Import').click();
  await page.getByRole('heading', { name: 'Import: ana@shop.example' }).waitFor();
  await page.getByRole('row', { name: 'ana@shop.example 4 3 0 1' }).waitFor();
  await page.getByText('It is neither a message (.eml) nor an mbox.').waitFor();
  await button('Continue').waitFor();
  await button('Export').click();
  await page.getByLabel('Its name').fill('ana@shop.example');
  await page.getByLabel('Path on the server').fill(join(folder, 'ana.tar.gz'));
  await inDialog('Export').click();
  await page.getByRole('heading', { name: 'Export: ana@shop.example' }).waitFor();
  await page
    .getByText(/^3 messages written\./)
    .first()
    .waitFor();
  expect(existsSync(join(folder, 'ana.tar.gz'))).toBe(true);
  await page
    .getByRole('row', { name: /Import from .* partly/ })
    .getByRole('button', { name: 'ana@shop.example' })
    .click();
  await page.getByRole('heading', { name: 'Import: ana@shop.example' }).waitFor();
});

it('an import from another server says what the server says', async () => {
  await open('/upkeep?tab=mail');
  await button('Import from another server').click();
  await page.getByLabel('The other server').fill('nowhere.shop.example');
  await page.getByLabel('Accounts, one a line').fill('ana, secret, ana@shop.example');
  await inDialog('Import').click();
  await page.getByText('DNS has no address of nowhere.shop.example.').first().waitFor();
});

it('lines of accounts are read in each form', () => {
  expect(accountsOf('ana, pass, word, ana@shop.example\n\n leo@shop.example \n', false)).toEqual([
    { user: 'ana', password: 'pass,word', into: 'ana@shop.example' },
    { user: 'leo@shop.example', password: null, into: 'leo@shop.example' },
  ]);
  expect(accountsOf('ana,ana@shop.example', true)).toEqual([{ user: 'ana', password: null, into: 'ana@shop.example' }]);
  expect(accountsOf('secret,ana@shop.example', false)).toEqual([
    { user: 'ana@shop.example', password: 'secret', into: 'ana@shop.example' },
  ]);
});

it('mail is brought back out of a backup, from where its folders are shown', async () => {
  await house.service.context.backups.make({ target: null, isByHand: true });
  await house.service.context.backups.over();
  await open('/upkeep');
  await button(/^Restore mail from /).click();
  await page.getByLabel('Address or domain').fill('nobody@shop.example');
  await button('See what the backup contains').click();
  await page
    .getByRole('alert')
    .getByText(/nobody@shop\.example had no mailbox/)
    .waitFor();
  await page.getByLabel('Address or domain').fill('ana@shop.example');
  await button('See what the backup contains').click();
  await page.getByLabel('Folder', { exact: true }).selectOption('old');
  await page.getByLabel('Into another mailbox').fill('leo@shop.example');
  await inDialog('Restore').click();
  await page.getByRole('heading', { name: 'Restored: ana@shop.example' }).waitFor();
  await page.getByText('3 messages restored.').first().waitFor();
});

it('a domain’s move is a path: a form that says what is missing, steps with their buttons, and what is destructive asks first', async () => {
  await house.provide('moving.example');
  await open('/domains/moving.example?tab=move');
  await page.getByLabel('The other server').fill('mx.old.example');
  await page.getByLabel('Accounts, one a line').fill(`ana@shop.example, ${PASSWORD}, ana@moving.example`);
  await button('Begin the move').click();
  await page.getByRole('alert').getByText('DNS has no MX record for moving.example.').waitFor();
  const pem = house.service.context.certificates.for('mail.host.example')?.pem ?? '';
  const fingerprint = createHash('sha256')
    .update(Buffer.from(/-----BEGIN CERTIFICATE-----([^-]+)-----END/.exec(pem)?.[1] ?? '', 'base64'))
    .digest('hex');
  const accounts = [{ user: 'ana@shop.example', password: 'wrong', into: 'ana' }];
  const server = { host: '127.0.0.1', port: house.ports.imaps, fingerprint, accounts, mailServer: 'mx.old.example' };
  expect((await house.api.call('POST', '/domains/moving.example/move-plan', server)).status).toBe(200);
  const step = (name: string) => page.getByRole('listitem').filter({ has: page.getByRole('heading', { name }) });
  await button('Sign in and count').click();
  await step('Sign in at the old server wrong')
    .getByText(/The server refuses the sign-in/)
    .waitFor();
  await button('Correct accounts').click();
  await page.getByLabel('Accounts, one a line').fill(`ana@shop.example, ${PASSWORD}, ana@moving.example`);
  await inDialog('Keep these').click();
  await button('Sign in and count').click();
  await step('Sign in at the old server done').waitFor();
  await button('Make the mailboxes').click();
  await button('Begin the first pass').click();
  await step('First pass done').getByText('3 messages copied.').waitFor();
  await step('Short TTL of the MX records next').getByRole('button', { name: 'Skip' }).click();
  await step('Short TTL of the MX records left out').waitFor();
  await button('Remove created mailboxes').click();
  await inDialog('Remove them').click();
  await step('Mailboxes here next').waitFor();
  expect((await house.api.call('GET', '/mailboxes/ana@moving.example')).status).toBe(404);
  await button('End the plan').click();
  await inDialog('End the plan').click();
  await button('Begin the move').waitFor();
});

it('an address that has moved stands with where it is, and is forgotten again', async () => {
  await open('/domains/shop.example?tab=mailboxes');
  await button('Add a moved address').click();
  await page.getByLabel('Name before @shop.example').fill('leo');
  await page.getByLabel('New address').fill('leo@far.example');
  await inDialog('Add').click();
  await page.getByRole('alert').getByText('leo@shop.example is already a mailbox.').waitFor();
  await page.getByLabel('Name before @shop.example').fill('mar');
  await inDialog('Add').click();
  await page.getByRole('row', { name: /mar@shop\.example leo@far\.example forwarded until/ }).waitFor();
  await button('Remove mar@shop.example').click();
  await page.getByRole('dialog', { name: 'Remove moved address' }).getByRole('button', { name: 'Remove', exact: true }).click();
  await page.getByText(/^No moved addresses\./).waitFor();
});
