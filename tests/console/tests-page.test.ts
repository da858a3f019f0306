import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { type Browser, openBrowser, signIn } from '../support/browser.ts';
import { HOST, type House, openHouse } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
let other: House;
let browser: Browser;
let page: Page;

beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana']);
  for (const address of HOST.addresses) house.dns.publish({ name: HOST.name, type: address.includes(':') ? 'AAAA' : 'A', value: address });
  other = await openHouse({ hostName: 'reserve.host.example', addresses: ['198.51.100.25'], resolverPort: house.dnsPort });
  browser = await openBrowser();
  page = browser.page;
  await signIn(page, house);
});
afterAll(async () => {
  await browser?.close();
  await house?.close();
  await other?.close();
});

const button = (name: string | RegExp) => page.getByRole('button', { name });

it('a message is sent to an address of its own, scored while somebody looks on, and looked at again', async () => {
  house.dns.publish({ name: 'far.example', type: 'TXT', value: 'v=spf1 -all' });
  house.dns.publish({ name: '_dmarc.far.example', type: 'TXT', value: 'v=DMARC1; p=reject' });
  await page.goto(`${house.api.url}/tests?tab=messages`);
  await page.getByText('No messages have been scored yet.').waitFor();
  await button('Get an address').click();
  const address = await page.locator('code').textContent();
  expect(address).toMatch(/^try-.*@mail\.host\.example$/);
  await page.getByText(/Waits for a message/).waitFor();
  const talk = await Talk.to(house.ports.smtp);
  await talk.say(null);
  for (const line of ['EHLO mx.far.example', 'MAIL FROM:<leo@far.example>', `RCPT TO:<${address}>`, 'DATA']) await talk.say(line);
  const hostile = '=?utf-8?q?=3Cimg_src=3Dx_onerror=3D=22document.title=3D=27owned=27=22=3E?=';
  expect(await talk.say(`From: leo@far.example\r\nTo: ${address}\r\nSubject: ${hostile}\r\n\r\nHello there\r\n.`)).toMatch(/^250/);
  talk.end();
  await page.getByRole('heading', { name: /<img src=x onerror=/ }).waitFor();
  await page.getByRole('group', { name: 'SPF: wrong' }).getByText('far.example forbids 127.0.0.1 to send.').waitFor();
  expect(await page.title()).not.toBe('owned');
  const before = await page
    .getByRole('img', { name: /^worth \d+ of \d+$/ })
    .first()
    .getAttribute('aria-label');
  house.dns.withdraw('far.example', 'TXT');
  house.dns.publish({ name: 'far.example', type: 'TXT', value: 'v=spf1 ip4:127.0.0.1 -all' });
  await button('Score again').click();
  await page.getByRole('group', { name: 'SPF: good' }).waitFor();
  const row = page.getByRole('row', { name: /^SPF 10 0/ });
  expect(await row.textContent()).toContain('far.example forbids 127.0.0.1 to send.');
  expect(await page.getByRole('img', { name: before ?? '', exact: true }).count()).toBeGreaterThan(0);
  await button(/^Remove message/).click();
  await page.getByRole('dialog').getByRole('button', { name: 'Remove', exact: true }).click();
  await page.getByText('No messages have been scored yet.').waitFor();
});

it('a witness is introduced by a code, and takes the steps of a test', async () => {
  await page.goto(`${house.api.url}/tests?tab=witnesses`);
  await button('Add a witness').click();
  await page.getByLabel('Its host name').fill('third.example');
  await button('Get a code').click();
  await page.getByText('One-time code for third.example').waitFor();
  await button('Done').click();
  await page.getByRole('row', { name: /third\.example has a code until/ }).waitFor();
  const { body } = await other.api.call<{ givenCode: string }>('POST', '/witnesses', { name: HOST.name });
  await button('Add a witness').click();
  await page.getByLabel('Its host name').fill('reserve.host.example');
  await page.getByLabel('The address of its console').fill(other.api.url);
  await page.getByLabel('Its one-time code').fill('wrong');
  await button('Connect both').click();
  await page.getByText(/does not know the code/).waitFor();
  await page.getByLabel('Its one-time code').fill(body.givenCode);
  await button('Connect both').click();
  await page.getByRole('row', { name: /reserve\.host\.example is asked at/ }).waitFor();
  await page.getByRole('tab', { name: 'Step by step' }).click();
  await page.getByLabel('What to test').selectOption('relay');
  await page.getByLabel('From where').selectOption('reserve.host.example');
  await button('Test').click();
  await page.getByText(/Seen from reserve\.host\.example\./).waitFor();
  const made = page.getByRole('row', { name: /mail\.host\.example Relay reserve\.host\.example/ });
  await made.waitFor();
  // One key makes it again.
  await page.getByRole('heading', { name: 'Tests', exact: true }).click();
  await page.keyboard.press('r');
  await expect.poll(() => made.count()).toBe(2);
});
