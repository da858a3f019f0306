import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { type Browser, openBrowser } from '../support/browser.ts';
import { apiAt, type House, openHouse, PASSWORD } from '../support/house.ts';

let house: House;
let browser: Browser;
let page: Page;

beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana']);
  browser = await openBrowser();
  page = browser.page;
  await page.goto(`${house.api.url}/sign-in#${house.service.firstSignIn?.code}`);
  await page.getByLabel('New password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Set the password and sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
});
afterAll(async () => {
  await browser?.close();
  await house?.close();
});

const open = (path: string) => page.goto(house.api.url + path);
const button = (name: string | RegExp) => page.getByRole('button', { name });
const inDialog = (name: string) => page.getByRole('dialog').getByRole('button', { name, exact: true });

it('customers are added, renamed and removed; one with domains can’t be', async () => {
  await open('/customers');
  await button('Add a customer').click();
  await page.getByLabel('Name', { exact: true }).fill('Vivero Luna');
  await inDialog('Add the customer').click();
  await button('Rename Vivero Luna').click();
  await page.getByLabel('Name', { exact: true }).fill('Customer');
  await inDialog('Rename').click();
  await page.getByRole('alert').getByText('There is a customer “Customer” already.').waitFor();
  await page.getByLabel('Name', { exact: true }).fill('Vivero Sol');
  await inDialog('Rename').click();
  expect(await button('Remove Customer').isDisabled()).toBe(true);
  await button('Remove Vivero Sol').click();
  await inDialog('Remove').click();
  await button('Remove Vivero Sol').waitFor({ state: 'detached' });
});

it('a plan is changed; a domain gets it, and a role that is not served yet', async () => {
  await open('/customers');
  await button('Add a plan').click();
  await page.getByLabel('Name', { exact: true }).fill('tiny');
  await page.getByLabel('Sends per hour').fill('');
  await page.getByLabel('Sends per day').fill('12');
  await inDialog('Add the plan').click();
  await page.getByRole('row', { name: /^tiny.*no limit.*12/ }).waitFor();
  await open('/domains/shop.example?tab=settings');
  await page.getByLabel('Plan', { exact: true }).selectOption('tiny');
  await button('Change it').click();
  await page.getByText('plan tiny').waitFor();
  await page.getByLabel('Role', { exact: true }).selectOption('away');
  await button('Change it').click();
  await page.getByRole('alert').getByText('shop.example has mailboxes here').waitFor();
  await page.getByRole('tab', { name: 'Sending' }).click();
  await expect.poll(() => page.getByLabel('Sends per day', { exact: true }).inputValue()).toBe('12');
  await page.getByRole('tab', { name: 'Journal' }).click();
  await page.getByText('changed: ').first().waitFor();
});

it('a mailbox gets a new password and quota, and goes when its address is typed', async () => {
  await open('/domains/shop.example?tab=mailboxes');
  await button('Change ana@shop.example').click();
  await page.getByLabel('Quota in MiB').fill('64');
  await page.getByLabel('Generate a password').check();
  await inDialog('Change it').click();
  expect(await page.getByLabel('Generated password').textContent()).toMatch(/^[a-z2-9-]{23}$/);
  await inDialog('Done').click();
  await page.getByText('of 64 MiB').waitFor();
  await button('Remove ana@shop.example').click();
  await page.getByLabel('Type ana@shop.example to go on').fill('ana@shop.example');
  await inDialog('Remove').click();
  await page.getByText('No mailbox is here yet.').waitFor();
});

it('tokens are made, shown once, and revoked; the password is changed', async () => {
  await open('/access');
  await page.getByLabel('Name of the new token').fill('reports');
  await button('Make a token').click();
  const token = (await page.getByLabel('New token', { exact: true }).textContent()) ?? '';
  const api = apiAt(house.api.url, token);
  expect((await api.call('GET', '/overview')).status).toBe(200);
  await button('Revoke reports').click();
  await inDialog('Revoke').click();
  await button('Revoke reports').waitFor({ state: 'detached' });
  expect((await api.call('GET', '/overview')).status).toBe(401);
  await page.getByLabel('Current password').fill('not this one');
  await page.getByLabel('New password').fill('another calm harbour');
  await button('Change it').click();
  await page.getByRole('alert').getByText('The current password is wrong.').waitFor();
  await page.getByLabel('Current password').fill(PASSWORD);
  await button('Change it').click();
  await page.getByText('The password is changed.').waitFor();
  await button('Sign out').click();
  await page.getByLabel('Password').fill('another calm harbour');
  await button('Sign in').click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
  expect(browser.faults).toEqual([]);
});
