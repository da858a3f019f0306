import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { Plan } from '../../src/api/schemas.ts';
import { CertificateMaker } from '../../src/standins/certificate-maker.ts';
import { type Browser, openBrowser, signIn } from '../support/browser.ts';
import { apiAt, HOST, type House, openHouse, PASSWORD } from '../support/house.ts';

let house: House;
let browser: Browser;
let page: Page;

beforeAll(async () => {
  house = await openHouse({ more: '[backup]\ntarget = "backups"\nevery_hours = 0\n' });
  await house.provide('shop.example', ['ana']);
  browser = await openBrowser();
  page = browser.page;
  await signIn(page, house);
});
afterAll(async () => {
  await browser?.close();
  await house?.close();
});

const open = (path: string) => page.goto(house.api.url + path);
const button = (name: string | RegExp) => page.getByRole('button', { name });
const inDialog = (name: string) => page.getByRole('dialog').getByRole('button', { name, exact: true });

it('a mailbox that is locked out stands on the overview, and is let in again', async () => {
  const { guards, clock } = house.service.context;
  for (let number = 0; number < 16; number += 1)
    guards.mailboxes.failed('198.51.100.77', 'ana@shop.example', clock.steady(), 'shop.example');
  await open('/');
  await page
    .getByRole('link', { name: /ana@shop\.example: after 16 wrong passwords, addresses that failed can’t try again for 15 more minutes/ })
    .click();
  await page.getByRole('row', { name: /198\.51\.100\.77 .*every account, from there.* 16 / }).waitFor();
  for (const who of ['ana@shop.example', '198.51.100.77']) {
    const lift = page.getByRole('button', { name: `Lift now: ${who}`, exact: true });
    await lift.click();
    await lift.waitFor({ state: 'detached' });
  }
  await page.getByText('No lockouts.').waitFor();
  expect(guards.mailboxes.wait('198.51.100.77', 'ana@shop.example', clock.steady())).toBe(0);
});

it('customers are added, changed and removed; one with domains can’t be', async () => {
  await open('/customers');
  await button('Add a customer').click();
  await page.getByLabel('Name', { exact: true }).fill('Vivero Luna');
  await inDialog('Add the customer').click();
  await button('Change Vivero Luna').click();
  await page.getByLabel('Name', { exact: true }).fill('Customer');
  await inDialog('Save').click();
  await page.getByRole('alert').getByText('A customer “Customer” already exists.').waitFor();
  await page.getByLabel('Name', { exact: true }).fill('Vivero Sol');
  await inDialog('Save').click();
  expect(await button('Remove Customer').isDisabled()).toBe(true);
  await button('Remove Vivero Sol').click();
  await inDialog('Remove').click();
  await button('Remove Vivero Sol').waitFor({ state: 'detached' });
});

it('a plan is changed; a domain gets it, and a role that its mailboxes forbid', async () => {
  await open('/customers');
  await button('Add a plan').click();
  await page.getByLabel('Name', { exact: true }).fill('tiny');
  const limit = (number: number, field: string) => page.getByRole('group', { name: `Limit ${number}` }).getByLabel(field);
  await button('Take limit 1 away').click();
  await limit(1, 'Amount').fill('12');
  await button('Add a limit').click();
  await limit(2, 'Amount').fill('1.5');
  await limit(2, 'Quantity').selectOption('MiB of text');
  await button('Add a limit').click();
  await limit(3, 'For').selectOption('a domain');
  await limit(3, 'Amount').fill('9');
  await limit(3, 'Period').selectOption('day');
  await inDialog('Add the plan').click();
  await page.getByRole('alert').getByText('each limit only once').waitFor();
  await limit(3, 'Quantity').selectOption('messages');
  await inDialog('Add the plan').click();
  await page.getByRole('row', { name: /^tiny.*12 sends per day, 9 messages per day.*1.5 MiB per hour/ }).waitFor();
  expect((await house.api.call<Plan>('GET', '/plans/tiny')).body).toMatchObject({
    limits: [
      { period: 'day', quantity: 'sends', amount: 12 },
      { period: 'day', quantity: 'messages', amount: 9 },
    ],
    mailboxLimits: [{ period: 'hour', quantity: 'bytes', amount: 1_572_864 }],
  });
  await button('Change the plan tiny').click();
  await button('Take limit 2 away').click();
  await inDialog('Save').click();
  await page.getByRole('dialog').waitFor({ state: 'hidden' });
  expect((await house.api.call<Plan>('GET', '/plans/tiny')).body.limits).toEqual([{ period: 'day', quantity: 'sends', amount: 12 }]);
  await open('/domains/shop.example?tab=settings');
  await page.getByLabel('Plan', { exact: true }).selectOption('tiny');
  await button('Save').click();
  await page.getByText('plan tiny').waitFor();
  await page.getByLabel('Role', { exact: true }).selectOption('away');
  await button('Save').click();
  await page.getByRole('alert').getByText('shop.example has mailboxes here').waitFor();
  await page.getByRole('tab', { name: 'Sending' }).click();
  await expect.poll(() => page.getByLabel('sends in the last 24 hours').first().getAttribute('max')).toBe('12');
  await page.getByRole('tab', { name: 'Journal' }).click();
  await page.getByText('changed: ').first().waitFor();
});

it('a sign-in is tested step by step; the step that fails is open, and the test can be made again', async () => {
  await open('/tests');
  await page.getByLabel('Address', { exact: true }).fill('nobody@shop.example');
  await button('Test').click();
  await page.getByRole('alert').getByText('There is no mailbox nobody@shop.example.').waitFor();
  await page.getByLabel('Address', { exact: true }).fill('ana@shop.example');
  await button('Test').click();
  await page.getByText('A step fails; it is expanded below.').waitFor();
  await page.getByText('mail.host.example has no address in DNS.').first().waitFor();
  await page.getByText('not-reached: begins TLS').first().waitFor();
  await button('Again').click();
  await page.getByText(/The last run was on/).waitFor();
  await expect.poll(() => page.getByRole('button', { name: 'ana@shop.example' }).count()).toBe(2);
});

it('a certificate is added, looked at on the ports, and goes when its name is typed', async () => {
  const maker = await CertificateMaker.make('Test', { days: 90, now: Date.now });
  const { pem, key } = await maker.give(['mail.shop.example'], null);
  await open('/certificates');
  await page
    .getByRole('row', { name: /mail\.shop\.example/ })
    .getByText('none; clients get the host’s')
    .waitFor();
  await button('Add a certificate').click();
  await page.getByLabel('Certificate', { exact: true }).fill(pem);
  await page.getByLabel('Private key').fill('nothing');
  await inDialog('Add').click();
  await page.getByRole('alert').getByText('It contains no PEM private key.').waitFor();
  await page.getByLabel('Private key').fill(key as string);
  await inDialog('Add').click();
  await page.getByRole('row', { name: /mail\.shop\.example.*wrong.*Its authority.*is not trusted here.*added/ }).waitFor();
  await button('Check the ports').click();
  await inDialog('Connect now').click();
  await page
    .getByRole('dialog')
    .getByRole('row', { name: /mail\.shop\.example.*at all \d+ ports.*wrong/ })
    .waitFor();
  await page.keyboard.press('Escape');
  await button('Fetch a certificate for mail.shop.example').click();
  await page.getByText('No authority is set to fetch certificates from.').waitFor();
  await button('Remove the certificate of mail.shop.example').click();
  await page.getByLabel('Type mail.shop.example to confirm').fill('mail.shop.example');
  await inDialog('Remove').click();
  await page
    .getByRole('row', { name: /mail\.shop\.example/ })
    .getByText('none; clients get the host’s')
    .waitFor();
});

it('a mailbox gets a new password and quota, and goes when its address is typed', async () => {
  await open('/domains/shop.example?tab=mailboxes');
  await button('Change ana@shop.example').click();
  await page.getByLabel('Quota in MiB').fill('64');
  await page.getByLabel('Generate a password').check();
  await inDialog('Save').click();
  expect(await page.getByLabel('Generated password').textContent()).toMatch(/^[a-z2-9-]{23}$/);
  await inDialog('Done').click();
  await page.getByText('of 64 MiB').waitFor();
  await button('Remove ana@shop.example').click();
  await page.getByLabel('Type ana@shop.example to confirm').fill('ana@shop.example');
  await inDialog('Remove').click();
  await page.getByText('No mailboxes yet.').waitFor();
});

it('of many mailboxes some are searched for, chosen, and changed at once; what is refused is named', async () => {
  const names = Array.from({ length: 12 }, (_none, at) => `desk${at}`);
  await house.provide('many.example', names);
  await open('/domains/many.example?tab=mailboxes');
  const rows = () => page.getByRole('region', { name: 'Mailboxes', exact: true }).getByRole('row').filter({ hasText: '@many.example' });
  await expect.poll(() => rows().count()).toBe(12);
  await page.getByLabel('Search mailboxes').fill('desk1');
  await expect.poll(() => rows().count()).toBe(3);
  await page.waitForURL(/mailboxes-search=desk1/);
  await page.getByLabel('Choose all mailboxes that are shown').check();
  await page.getByRole('status').getByText('3 chosen').waitFor();
  await button('Set the quota of the selected …').click();
  await page.getByLabel('Quota in MiB').fill('64');
  // Somebody else is quicker.
  expect((await house.api.call('DELETE', '/mailboxes/desk11@many.example')).status).toBe(200);
  await inDialog('Set it').click();
  await page.getByRole('alert').getByText('2 of 3 done').waitFor();
  await page.getByRole('alert').getByText('desk11@many.example').first().waitFor();
  await inDialog('Done').click();
  await page.getByText('of 64 MiB').nth(1).waitFor();
  await page.getByLabel('Choose desk10@many.example').check();
  await button('Remove the selected …').click();
  await page.getByLabel('Type 1 to confirm').fill('2');
  await inDialog('Remove them').click();
  await page.getByLabel('Type 1 to confirm').fill('1');
  await inDialog('Remove them').click();
  await expect.poll(() => rows().count()).toBe(1);
  expect(await house.api.list('/domains/many.example/mailboxes')).toHaveLength(10);
  // What was removed is there to be brought back, or deleted for good.
  const removed = page.getByRole('region', { name: 'Removed mailboxes' });
  await button('Restore desk10@many.example').click();
  await removed.getByRole('status').getByText('desk10@many.example is back.').waitFor();
  await expect.poll(() => rows().count()).toBe(2);
  await button('Delete desk11@many.example for good').click();
  await inDialog('Remove').waitFor();
  await page.getByLabel('Type desk11@many.example to confirm').fill('desk11@many.example');
  await inDialog('Remove').click();
  await expect.poll(() => removed.getByRole('row').count()).toBe(0);
  expect(await house.api.list('/domains/many.example/removed-mailboxes')).toEqual([]);
});

it('settings that somebody else has changed meanwhile are not written over', async () => {
  await open('/domains/shop.example?tab=settings');
  await page.getByLabel('Largest message, MiB').fill('3');
  expect((await house.api.call('PATCH', '/domains/shop.example', { catchAll: 'team@far.example' })).status).toBe(200);
  await button('Save').click();
  await page.getByRole('alert').getByText('It has changed since you read it').waitFor();
  await button('Show the current settings').click();
  await expect.poll(() => page.getByLabel('Catch-all').inputValue()).toBe('team@far.example');
  await page.getByLabel('Largest message, MiB').fill('3');
  await button('Save').click();
  await expect
    .poll(async () => (await house.api.call<{ mostBytes: number }>('GET', '/domains/shop.example')).body.mostBytes)
    .toBe(3 * 1024 ** 2);
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
  await button('Save').click();
  await page.getByRole('alert').getByText('The current password is wrong.').waitFor();
  await page.getByLabel('Current password').fill(PASSWORD);
  await button('Save').click();
  await page.getByText(/The password is changed/).waitFor();
  await button('Sign out').click();
  await page.getByLabel('Password', { exact: true }).fill('another calm harbour');
  await button('Sign in').click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
  expect(browser.faults).toEqual([]);
});

it('a network is made known, refused when it is none, and forgotten', async () => {
  await open('/host');
  await page.getByLabel('Network', { exact: true }).fill('198.51.100.300/24');
  await button('Trust').click();
  await page.getByRole('alert').getByText('is not a network').waitFor();
  await page.getByLabel('Network', { exact: true }).fill('198.51.100.77/24');
  await page.getByLabel('Owner').fill('choir list');
  await button('Trust').click();
  await page.getByRole('row', { name: /198\.51\.100\.0\/24 choir list/ }).waitFor();
  await button('Remove 198.51.100.0/24').click();
  await page.getByRole('dialog', { name: 'Remove trusted network' }).getByRole('button', { name: 'Remove', exact: true }).click();
  await page.getByText('No trusted networks.').waitFor();
});

it('a zone is set, its difference shown, published and seen to be in line', async () => {
  const secret = Buffer.from('a secret of some length').toString('base64');
  house.dns.updateKey = { name: 'updates', algorithm: 'hmac-sha256', secret };
  house.dns.addZone('shop.example', [{ name: 'shop.example', type: 'MX', value: '10 mx.old.example' }]);
  await open('/host');
  await button('Set a zone').click();
  await page.getByLabel('Zone', { exact: true }).fill('shop.example');
  await page.getByLabel('Address of its primary name server').fill('203.0.113.53');
  await page.getByLabel('Name of the TSIG key').fill('updates');
  await page.getByLabel('Secret (base64)').fill('short');
  await inDialog('Set it').click();
  await page.getByRole('alert').getByText('The secret is not base64').waitFor();
  await page.getByLabel('Secret (base64)').fill(secret);
  await inDialog('Set it').click();
  await page.getByRole('cell', { name: 'shop.example', exact: true }).waitFor();
  expect(await page.content()).not.toContain(secret);

  await open('/domains/shop.example?tab=records');
  await button(/^Publish into the zone shop\.example/).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByText('− remove MX shop.example 10 mx.old.example').waitFor();
  await dialog.getByText('+ add MX shop.example 10 mail.host.example').waitFor();
  await inDialog('Publish').click();
  await dialog.getByText(/^Made in the zone shop\.example/).waitFor();
  await inDialog('Done').click();
  await button(/^Check (now|again)/).click();
  await page.getByRole('group', { name: 'DKIM: good' }).waitFor();
  await page.getByRole('group', { name: 'DMARC: good' }).waitFor();
  await button(/^Publish into the zone shop\.example/).click();
  await dialog.getByText('The zone shop.example is up to date.').waitFor();
  await inDialog('Done').click();
});

it('while a cache holds the old answer, the time left runs down, and the page sees it arrive', async () => {
  const { context } = house.service;
  const real = context.dns.openViews;
  for (const [at, type] of (['A', 'AAAA'] as const).entries())
    house.dns.publish({ name: HOST.name, type, value: HOST.addresses[at] ?? '' });
  house.dns.withdraw('shop.example', 'MX');
  house.dns.publish({ name: 'shop.example', type: 'MX', value: '10 mail.host.example' });
  // A resolver that still has the old answer.
  context.dns.openViews = () => ({
    ...real(),
    further: [],
    caches: [
      async (name, type) =>
        type === 'MX'
          ? ({ kind: 'found', values: [{ preference: 10, exchange: 'mx.old.example' }], ttl: 90, alias: null, by: '192.0.2.1' } as never)
          : real().source(name, type),
    ],
  });
  await open('/domains/shop.example?tab=records');
  await button(/^Check (now|again)/).click();
  const waiting = page.getByRole('group', { name: 'MX: waiting' });
  await waiting.getByText('192.0.2.1 still holds the old answer').waitFor();
  const left = () => waiting.getByRole('timer').textContent();
  const first = await left();
  expect(first).toMatch(/^1:\d\d left$/);
  await expect.poll(left).not.toBe(first);
  expect(await waiting.locator('mark').allTextContents()).toEqual(['ail.host', 'x.old']);
  context.dns.openViews = real;
  await button('Check again').click();
  await page.getByRole('group', { name: 'MX: good' }).waitFor();
  await page.getByRole('tab', { name: 'History' }).click();
  await page.getByRole('listitem').filter({ hasText: 'waiting' }).first().waitFor();
});

it('how strict a domain is can be set', async () => {
  await open('/domains/shop.example?tab=settings');
  await page.getByLabel('Incoming mail that DMARC finds forged').selectOption('junk');
  await page.getByLabel('Stage of the domain’s own DMARC policy').selectOption('quarantine');
  await button('Save').click();
  await expect
    .poll(async () => (await house.api.call<{ judge: string; dmarcStage: string }>('GET', '/domains/shop.example')).body)
    .toMatchObject({
      judge: 'junk',
      dmarcStage: 'quarantine',
    });
});

it('a backup is made and proven, and what the configuration file says otherwise is taken over', async () => {
  await open('/upkeep');
  await page.getByText('none yet').waitFor();
  await button('Back up now').click();
  const prove = button(/^Prove /);
  await prove.waitFor();
  await expect.poll(() => prove.isEnabled()).toBe(true);
  await prove.click();
  await page.getByText(/: whole$/).waitFor();
  const inTab = (name: string) => page.getByRole('tab', { name }).click();
  await inTab('Configuration file');
  await page.getByText('The running service matches the file.').waitFor();
  const file = join(house.folder, 'tenedor.toml');
  const text = readFileSync(file, 'utf8');
  writeFileSync(file, text.replace('every_hours = 0', 'every_hours = 12').replace('every_minutes = 0', 'every_minutes = 45'));
  await page.reload();
  await page.getByRole('row', { name: 'backup.every_hours 0 12 immediately' }).waitFor();
  await button('Apply without restart').click();
  await page.getByRole('row', { name: /backup\.every_hours/ }).waitFor({ state: 'detached' });
  await page.getByRole('row', { name: 'checks.every_minutes 0 45 after a restart' }).waitFor();
  await inTab('Backups');
  await page.getByText(/every 12 hours/).waitFor();
  writeFileSync(file, 'data = ');
  await inTab('Configuration file');
  await page.reload();
  await page.getByText(/this is not TOML.*Nothing was applied/).waitFor();
  writeFileSync(file, text);
});
