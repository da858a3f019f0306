import { readFileSync } from 'node:fs';
import type { ImapFlow } from 'imapflow';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { type Browser, openBrowser, signIn } from '../support/browser.ts';
import { type House, openHouse } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

let house: House;
let browser: Browser;
let page: Page;
let program: ImapFlow;

beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana']);
  program = await openProgram(house.ports.imaps, 'ana@shop.example');
  await program.append('INBOX', 'Subject: one\r\n\r\nText\r\n');
  await program.mailboxCreate('Projects/Boat');
  browser = await openBrowser();
  page = browser.page;
  await signIn(page, house);
});
afterAll(async () => {
  await browser?.close();
  await house?.close();
});

const button = (name: string | RegExp) => page.getByRole('button', { name });

it('a mailbox shows its folders, how long mail stays in them, and who has it open', async () => {
  await page.goto(`${house.api.url}/domains/shop.example?tab=mailboxes`);
  await button('Folders and devices of ana@shop.example').click();
  const folders = page.getByRole('table', { name: 'Folders' });
  await folders.getByRole('row', { name: /Inbox 1\s*1 unread/ }).waitFor();
  await folders.getByRole('row', { name: /Projects\/Boat/ }).waitFor();
  await page.getByRole('region', { name: 'Signed in now' }).getByText('Tide Mail 4').waitFor();
  const trash = page.getByLabel('Days that messages stay in Trash');
  await trash.fill('60');
  await trash.press('Enter');
  await page.getByRole('row', { name: /Trash.*days/ }).waitFor();
  const junk = page.getByLabel('Days that messages stay in Junk');
  await junk.fill('0');
  await junk.press('Enter');
  await page
    .getByRole('alert')
    .getByText(/at least 1/)
    .waitFor();
});

it('a form says at the field what is wrong, moves there, and forgets it when it is right; sign-ins are in the history', async () => {
  await page.goto(`${house.api.url}/domains/shop.example?tab=mailboxes`);
  await button('Change ana@shop.example').click();
  const copies = page.getByRole('textbox', { name: 'Forward a copy to' });
  await copies.fill('nobody@shop.example');
  await page.getByRole('textbox', { name: 'Owner' }).focus();
  await button('Save').click();
  await page.getByRole('alert').getByText('There is no mailbox or alias nobody@shop.example here.').waitFor();
  expect(await page.getByRole('alert').count()).toBe(1);
  expect(await copies.getAttribute('aria-invalid')).toBe('true');
  const described = (await copies.getAttribute('aria-describedby')) ?? '';
  expect(await page.locator(`[id="${described.split(' ')[0]}"]`).textContent()).toContain('There is no mailbox');
  expect(await copies.evaluate((element) => element === document.activeElement)).toBe(true);
  await copies.fill('reader@far.example');
  await button('Save').click();
  await page.getByRole('dialog').waitFor({ state: 'hidden' });
  await button('Change ana@shop.example').click();
  expect(await copies.inputValue()).toBe('reader@far.example');
  await copies.fill('');
  await button('Save').click();
  await page.getByRole('dialog').waitFor({ state: 'hidden' });
  await page
    .getByRole('table')
    .getByRole('row', { name: /ana@shop\.example.*IMAP.*signed in/ })
    .first()
    .waitFor({ timeout: 40_000 });
});

it('a device gets a password, shown once, and loses it again; then only such passwords sign in', async () => {
  await page.goto(`${house.api.url}/domains/shop.example?tab=mailboxes`);
  await button('Folders and devices of ana@shop.example').click();
  await page.getByRole('textbox', { name: 'Device' }).fill('Ana’s phone');
  await button('Make one').click();
  const password = (await page.getByRole('status', { name: 'App password' }).textContent()) ?? '';
  const phone = await openProgram(house.ports.imaps, 'ana@shop.example', { password });
  await phone.logout();
  await page.getByText(/used .* from 127\.0\.0\.1 by Tide Mail 4/).waitFor();
  await page.getByLabel('Only app passwords can sign in, not the mailbox password').check();
  await expect
    .poll(() =>
      openProgram(house.ports.imaps, 'ana@shop.example').then(
        () => 'in',
        () => 'out',
      ),
    )
    .toBe('out');
  await button('Revoke the password for Ana’s phone').click();
  await page.getByRole('dialog', { name: 'Revoke app password' }).getByRole('button', { name: 'Revoke', exact: true }).click();
  await button('Revoke the password for Ana’s phone').waitFor({ state: 'detached' });
  await expect(openProgram(house.ports.imaps, 'ana@shop.example', { password })).rejects.toThrow();
});

it('a list is dropped: faults by their lines, then all of it, with the passwords to keep', async () => {
  await page.goto(`${house.api.url}/domains/shop.example?tab=mailboxes`);
  await button('Load a list').click();
  const choose = (text: string, charset: BufferEncoding = 'utf8') =>
    page
      .getByLabel('Lists', { exact: true })
      .setInputFiles({ name: 'office.csv', mimeType: 'text/csv', buffer: Buffer.from(text, charset) });
  await choose('address,quota\nmia@shop.example,2G\nana@shop.example,\n');
  await page.getByRole('alert').getByText('ana@shop.example is already a mailbox.').waitFor();
  // As spreadsheets of many countries write it.
  await choose('address;quota;name\nmia@shop.example;2G;Mia Süß\nkim@shop.example;;\n', 'latin1');
  await page.getByRole('status').getByText('2 mailboxes added.').waitFor();
  const [download] = await Promise.all([page.waitForEvent('download'), page.getByRole('link', { name: /Keep the 2 passwords/ }).click()]);
  expect(readFileSync(await download.path(), 'utf8')).toMatch(
    /^address,password\n(mia|kim)@shop\.example,[a-z0-9-]{29}\n(mia|kim)@shop\.example,[a-z0-9-]{29}\n$/,
  );
  await button('Done').click();
  await page.getByRole('row', { name: /mia@shop\.example.*Mia Süß/ }).waitFor();
});

it('a mailbox that is nobody’s own is added, and shared with somebody, who may send as it', async () => {
  await page.goto(`${house.api.url}/domains/shop.example?tab=mailboxes`);
  await button('Add a mailbox').click();
  await page.getByLabel('Name before the @').fill('desk');
  await page.getByLabel('Shared: its members open it with their own passwords').check();
  await page.getByRole('dialog').getByRole('button', { name: 'Add the mailbox' }).click();
  await page.getByText('desk@shop.example is ready.').waitFor();
  expect(await page.getByLabel('Generated password').count()).toBe(0);
  await button('Done').click();
  await page.getByRole('row', { name: /desk@shop\.example shared/ }).waitFor();
  await button('Folders and devices of desk@shop.example').click();
  await page.getByLabel('Member', { exact: true }).fill('nobody');
  await button('Share').click();
  await page.getByText('There is no mailbox nobody@shop.example.').waitFor();
  await page.getByLabel('Member', { exact: true }).fill('ana');
  await page.getByLabel('Rights').selectOption('reader');
  await button('Share').click();
  await page.getByText('reads; sends as it').waitFor();
  await button('End sharing with ana@shop.example').click();
  await page.getByRole('dialog', { name: 'End sharing' }).getByRole('button', { name: 'End sharing', exact: true }).click();
  await button('End sharing with ana@shop.example').waitFor({ state: 'detached' });
});
