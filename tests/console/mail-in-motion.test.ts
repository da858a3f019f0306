import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { Limits } from '../../src/api/mail-schemas.ts';
import { setStopFor } from '../../src/service/limits/set-stops.ts';
import { findDomain } from '../../src/store/domains.ts';
import { type Browser, openBrowser, signIn } from '../support/browser.ts';
import { idOf, openTown, RELAY, send, type Town } from '../support/town.ts';

let town: Town;
let browser: Browser;
let page: Page;
beforeAll(async () => {
  town = await openTown();
  const { house } = town;
  await house.provide('house.example', ['post']);
  await house.provide('shop.example', ['ana', 'li']);
  browser = await openBrowser();
  page = browser.page;
  await signIn(page, house);
});
afterAll(async () => {
  await browser?.close();
  await town?.close();
});

const open = (path: string) => page.goto(town.house.api.url + path);
const button = (name: string | RegExp) => page.getByRole('button', { name });
const dialog = () => page.getByRole('dialog');
const sent = async (to: string, subject: string): Promise<string> => {
  const talk = await town.signedIn('ana@shop.example');
  const reply = await send(talk, 'ana@shop.example', to, `From: ana@shop.example\r\nSubject: ${subject}\r\n\r\nx\r\n`);
  talk.end();
  return idOf(reply);
};

it('the queue by destination leads to what waits; in bulk it is held, released and dropped, with a count first', async () => {
  for (const name of ['mar', 'leo', 'eva']) {
    const id = await sent(`${name}@slow.example`, `To ${name}`);
    await expect
      .poll(
        async () =>
          (await town.house.api.call<{ recipients: { attempts: number }[] }>('GET', `/journeys/${id}`)).body.recipients[0]?.attempts,
      )
      .toBe(1);
  }
  await page.getByRole('link', { name: 'Queue', exact: true }).click();
  await page
    .getByRole('cell', { name: /451 4\.7\.1 We do not know you yet/ })
    .first()
    .waitFor();
  await page.getByLabel('Waiting since').selectOption('waiting over an hour');
  await page.getByText('No waiting messages match.').waitFor();
  await page.getByLabel('Waiting since').selectOption('waiting however long');
  await page.getByRole('button', { name: 'slow.example', exact: true }).click();
  await page.waitForURL(({ searchParams }) => searchParams.get('destination') === 'slow.example');
  await button('Hold …').click();
  await dialog().getByText('3 recipients are held until they are released.').waitFor();
  await dialog().getByLabel('Why').fill('waiting for a word from the customer');
  await dialog().getByRole('button', { name: 'Hold', exact: true }).click();
  await page.getByText('held by hand').nth(1).waitFor();
  await button(/^Drop: .* to mar@slow\.example$/).click();
  await dialog().getByRole('button', { name: 'Drop', exact: true }).click();
  await page.getByText('2 recipients of 2 messages').waitFor();
  await button('Release …').click();
  await dialog().getByRole('button', { name: 'Release', exact: true }).click();
  await page.getByText('No waiting messages match.').waitFor();
});

it('the live view shows lines as they happen, pauses, goes on, and filters', async () => {
  await open('/traffic?tab=live');
  await page.getByText('listening').waitFor();
  await sent('li@shop.example', 'First');
  const live = page.getByRole('table', { name: 'Live journal' });
  await live.getByRole('cell', { name: 'li@shop.example: into Inbox' }).waitFor();
  await button('Pause').click();
  const id = await sent('li@shop.example', 'Second');
  await button(/Continue \(\d+ more\)/).waitFor();
  expect(await live.getByText(id).count()).toBe(0);
  await button(/Continue/).click();
  await live.getByText(id).first().waitFor();
  await page.getByLabel('Only lines with').fill('charged to');
  await sent('far@open.example', 'Third');
  await live.getByRole('cell', { name: /1 send charged to ana@shop\.example/ }).waitFor();
});

it('messages are found by their time, and who sends most is told', async () => {
  await sent('far@open.example', 'Timely');
  await open('/traffic');
  const row = page.getByRole('row', { name: /Timely/ });
  await row.waitFor();
  const inputOf = (at: number): string => new Date(at - new Date(at).getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
  await page.getByLabel('Until').fill(inputOf(Date.now() - 3_600_000));
  await row.waitFor({ state: 'detached' });
  await page.getByLabel('Until').fill('');
  await page.getByLabel('From').fill(inputOf(Date.now() - 3_600_000));
  await row.waitFor();
  await page.getByLabel('From').fill(inputOf(Date.now() + 3_600_000));
  await page.getByText('No messages match.').waitFor();
  await page.getByRole('tab', { name: 'Senders' }).click();
  await page.getByRole('cell', { name: 'ana@shop.example' }).waitFor();
  await page.getByRole('link', { name: 'shop.example' }).click();
  await page.getByRole('tab', { name: 'Sending', selected: true }).waitFor();
});

it('a domain is made the twin of another, and that is ended', async () => {
  await open('/domains/house.example?tab=settings');
  await page.getByLabel('Twin of').fill('shop.example');
  await button('Make it a twin').click();
  await page.getByRole('alert').getByText('house.example').waitFor();
  await town.house.provide('shop-two.example');
  await open('/domains/shop-two.example?tab=settings');
  await page.getByLabel('Twin of').fill('shop.example');
  await button('Make it a twin').click();
  await page.getByText('Every address of shop-two.example delivers to the same name in shop.example.').waitFor();
  await button('End twin').click();
  await dialog().getByRole('button', { name: 'End twin' }).click();
  await button('Make it a twin').waitFor();
});

it('explains a message that nobody sends', async () => {
  await open('/traffic?tab=explain');
  await page.getByLabel('Envelope sender').fill('ana@shop.example');
  await page.getByLabel('Recipient').fill('leo@open.example');
  await page.getByLabel('Signed in as').fill('ana@shop.example');
  await button('Explain').click();
  const steps = page.getByRole('list', { name: 'Steps' });
  await steps.getByText(/signed for shop\.example with the key k\d{8}/).waitFor();
  await steps.getByText(/leaves through “direct” for mx\.open\.example/).waitFor();
  await page.getByText('It would be accepted.').waitFor();
  await page.getByLabel('Recipient').fill('nonsense');
  await button('Explain').click();
  await page
    .getByRole('alert')
    .getByText(/“nonsense” is not an address/)
    .waitFor();
});

it('a smart host is added, tested step by step, and switched off', async () => {
  await page.getByRole('link', { name: 'Outlets' }).click();
  await button('Add a smart host').click();
  await dialog().getByLabel('Name').fill('relay');
  await dialog().getByLabel('Smart host').fill(RELAY.name);
  await dialog().getByLabel('User').fill(RELAY.user);
  await dialog().getByLabel('Password').fill(RELAY.password);
  await dialog().getByLabel('Position').fill('900');
  await dialog().getByRole('button', { name: 'Add it' }).click();
  await button('Test relay').click();
  await dialog().getByRole('button', { name: 'Test' }).click();
  await dialog().getByText('The outlet works.').waitFor();
  expect(await dialog().getByRole('list', { name: 'Steps' }).getByText('sign-in').count()).toBe(1);
  await page.keyboard.press('Escape');
  await button('Switch relay off').click();
  await button('Switch relay on').waitFor();
});

it('a brake is seen first, and released with one click; a pause says its words', async () => {
  const { context } = town.house.service;
  const id = findDomain(context.db, 'shop.example')?.id ?? 0;
  await setStopFor(context, { kind: 'domain', id, name: 'shop.example', domain: 'shop.example' }, 'brake', {
    sending: true,
    receiving: false,
    text: 'Too much failed',
    figures: { failed: 30, ended: 40 },
  });
  await open('/');
  await page.getByRole('link', { name: /The brake is set on shop\.example: 30 of 40/ }).click();
  await page.getByText(/shop\.example: Brake set\. Sending is stopped since/).waitFor();
  await button('Release').click();
  await page.getByText(/Brake set/).waitFor({ state: 'detached' });
  await page.getByLabel('Text for senders and users').fill('Shop is moving house');
  await button('Pause shop.example').click();
  await page.getByText('“Shop is moving house”').waitFor();
  await button('Resume').click();
  await page.getByText('“Shop is moving house”').waitFor({ state: 'detached' });
});

it('a customer, a mailbox and a network have limits, a pause and a statement of their own', async () => {
  await open('/customers');
  await button('Sending of Customer').click();
  await dialog().getByText('No limits.').waitFor();
  await dialog().getByLabel('Of', { exact: true }).selectOption('MiB of text');
  await dialog().getByLabel('Limit', { exact: true }).fill('2.5');
  await dialog().getByRole('button', { name: 'Set the limit' }).click();
  await dialog().getByText('of 2.5 MiB').waitFor();
  expect((await town.house.api.call<Limits>('GET', '/limits/customer:Customer')).body.limits).toMatchObject([{ amount: 2_621_440 }]);
  await dialog().getByRole('tab', { name: 'Pause' }).click();
  await dialog().getByLabel('Text for senders and users').fill('The bill is open');
  await dialog().getByRole('button', { name: 'Pause customer:Customer' }).click();
  await dialog().getByText('“The bill is open”').waitFor();
  await dialog().getByRole('button', { name: 'Resume' }).click();
  await dialog().getByText('“The bill is open”').waitFor({ state: 'detached' });
  await sent('sol@open.example', 'For the statement');
  await open('/domains/shop.example?tab=mailboxes');
  await button('Sending of ana@shop.example').click();
  await dialog().getByRole('tab', { name: 'Statement' }).click();
  await dialog().getByRole('cell', { name: 'ana@shop.example' }).waitFor();
  const download = page.waitForEvent('download');
  await dialog().getByRole('button', { name: 'As CSV' }).click();
  expect((await download).suggestedFilename()).toMatch(/^ana@shop\.example .*\.csv$/);
  await dialog().getByLabel('First day').fill('2026-01-31');
  await dialog().getByLabel('Last day').fill('2026-01-01');
  await dialog().getByText('The first day is after the last.').waitFor();
});

it('a network may send, customers are told, a webhook shows its secret once', async () => {
  await open('/host');
  await page.getByLabel('Network', { exact: true }).fill('198.51.100.0/28');
  await page.getByLabel('may send').check();
  await page.getByLabel('Sender domains').fill('shop.example');
  await button('Trust').click();
  await page.getByRole('cell', { name: 'as shop.example' }).waitFor();
  await page.getByLabel('Network', { exact: true }).fill('203.0.113.64/28');
  await page.getByLabel('may send').check();
  await page.getByLabel('Sender domains').fill('any');
  await button('Trust').click();
  await page.getByRole('cell', { name: 'as anybody' }).waitFor();
  await button('Sending of 198.51.100.0/28').click();
  await dialog().getByRole('tab', { name: 'Limits' }).waitFor();
  expect(await dialog().getByRole('tab', { name: 'Pause' }).count()).toBe(0);
  await page.keyboard.press('Escape');
  await page.getByLabel('a brake is set').click();
  await expect
    .poll(async () => (await town.house.api.call<{ mail: string[] }>('GET', '/notices')).body.mail)
    .toEqual(['limit-warning', 'unusual-sending', 'nearly-full']);
  await page.getByLabel('Webhook address').fill('http://127.0.0.1:1/hook');
  await button('Add').last().click();
  await page.getByText(/Its secret, shown only once/).waitFor();
  await button('Test webhook http://127.0.0.1:1/hook').click();
  await page.getByText('no answer (ECONNREFUSED)').waitFor();
});
