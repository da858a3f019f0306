import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { JourneyFacts } from '../../src/store/journeys.ts';
import { type Browser, openBrowser, settled } from '../support/browser.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';

let house: House;
let browser: Browser;
let page: Page;

beforeAll(async () => {
  house = await openHouse();
  browser = await openBrowser();
  page = browser.page;
});
afterAll(async () => {
  await browser?.close();
  await house?.close();
});

const button = (name: string | RegExp) => page.getByRole('button', { name });
const seen = (text: string | RegExp) => page.getByText(text).first().waitFor();
const clipboard = () => page.evaluate(() => navigator.clipboard.readText());

describe('an administrator at the console', () => {
  it('signs in with the one-time code, after being told what is wrong', async () => {
    await page.goto(`${house.api.url}/sign-in#${house.service.firstSignIn?.code}`);
    await page.getByLabel('New password').fill('short');
    await button('Set the password and sign in').click();
    await page.getByRole('alert').getByText('fewer than 12 characters').waitFor();
    await page.getByLabel('New password').fill(PASSWORD);
    await button('Set the password and sign in').click();
    await page.getByRole('heading', { name: 'Overview' }).waitFor();
    expect(new URL(page.url()).hash).toBe('');
    // Of a house that has just been opened there is one thing to say.
    await seen(/The certificate for mail\.host\.example: It is self-signed/);
  });

  it('adds a plan and takes a domain on for a new customer; a wrong name is explained beside the form', async () => {
    await page.getByRole('link', { name: 'Customers' }).click();
    await button('Add a plan').click();
    await page.getByLabel('Name').fill('standard');
    await page.getByRole('dialog').getByRole('button', { name: 'Add the plan' }).click();
    await page.getByRole('cell', { name: /^standard/ }).waitFor();
    await page.getByRole('link', { name: 'Domains', exact: true }).click();
    await button('Add a domain').first().click();
    await page.getByLabel('Domain', { exact: true }).fill('olmo');
    await page.getByLabel('Name of the new customer').fill('Olmo Bakery');
    await button('Add the domain').click();
    await page.getByRole('alert').getByText('only one label').waitFor();
    await page.getByLabel('Domain', { exact: true }).fill('olmobakery.example');
    // The customer was added by the first try; it is chosen now.
    await page.getByLabel('Customer', { exact: true }).selectOption('Olmo Bakery');
    await button('Add the domain').click();
    await page.getByRole('heading', { name: 'olmobakery.example' }).waitFor();
    await page.getByRole('heading', { name: 'Next: publish the records' }).waitFor();
  });

  it('reads the findings, and copies what to type', async () => {
    await page.getByRole('tab', { name: 'Records' }).click();
    await button('Check now').click();
    const spf = page.getByRole('group', { name: 'SPF: missing' });
    await spf.getByText('No SPF record is published.').waitFor();
    await spf.getByRole('button', { name: 'Copy value of the TXT record olmobakery.example' }).click();
    await spf.getByRole('button', { name: /copied/i }).waitFor();
    expect(await clipboard()).toBe('v=spf1 a:mail.host.example -all');
    await page
      .getByRole('group', { name: 'DMARC: missing' })
      .getByRole('button', { name: /Copy name in a form/ })
      .click();
    await expect.poll(clipboard).toBe('_dmarc');
    await button('Copy zone file').click();
    await expect.poll(clipboard).toContain('$ORIGIN olmobakery.example.');
  });

  it('sees a wrong record beside the right one, fixes it, and checks again', async () => {
    const { body } = await house.api.call<{ records: Parameters<House['dns']['typeIn']>[0][] }>(
      'GET',
      '/domains/olmobakery.example/records',
    );
    house.dns.typeIn(
      ...body.records.map((record) => (record.subject === 'spf' ? { ...record, value: 'v=spf1 ip4:203.0.113.1 -all' } : record)),
    );
    await button('Check again').click();
    const spf = page.getByRole('group', { name: 'SPF: wrong' });
    await spf.getByText('The record leaves this host out').waitFor();
    expect(await spf.locator('mark').allTextContents()).toEqual([' a:mail.host.example']);
    const value = spf.getByRole('button', { name: 'Copy value of the TXT record olmobakery.example' });
    await value.click();
    await expect.poll(clipboard).toBe('v=spf1 a:mail.host.example ip4:203.0.113.1 -all');
    house.dns.withdraw('olmobakery.example', 'TXT');
    house.dns.publish({ name: 'olmobakery.example', type: 'TXT', value: await clipboard() });
    await button('Check again').click();
    await page.getByRole('group', { name: 'SPF: good' }).waitFor();
    await page.getByRole('img', { name: 'readiness 100 of 100' }).waitFor();
  });

  it('explains SPF step by step, and shows how the findings have turned', async () => {
    await page.getByLabel('Address of the sending server').fill('203.0.113.9');
    await button('Explain').click();
    const explained = page.getByRole('region', { name: 'SPF for 203.0.113.9' });
    await explained.getByText('203.0.113.9 matches "-all" of olmobakery.example').waitFor();
    await explained.getByText('A mail.host.example → 192.0.2.25').waitFor();
    await page.getByLabel('Address of the sending server').fill('203.0.113');
    await button('Explain').click();
    await page.getByRole('alert').getByText('“203.0.113” is not an address.').waitFor();
    await page.getByRole('tab', { name: 'History' }).click();
    await expect.poll(() => page.getByRole('listitem').filter({ hasText: /SPF/ }).allTextContents()).toHaveLength(3);
    const turns = await page.getByRole('listitem').filter({ hasText: /SPF/ }).allTextContents();
    expect(turns.map((turn) => /(good|wrong|missing)(?=[A-Z])/.exec(turn.replace(/.*(→became|first seen)/s, ''))?.[0])).toEqual([
      'good',
      'wrong',
      'missing',
    ]);
  });

  it('prepares a key, is told that it is not published, and activates it once it is', async () => {
    await page.getByRole('tab', { name: 'Keys' }).click();
    await button('Prepare a key').click();
    await page.getByLabel('Kind').selectOption('Ed25519');
    await page.getByLabel('Selector').fill('spring');
    await button('Prepare it').click();
    const key = page.getByRole('listitem', { name: 'Key spring' });
    await key.getByText('prepared').waitFor();
    await key.getByRole('button', { name: 'Activate spring' }).click();
    await button('Activate it').click();
    await page.getByRole('alert').getByText('The prepared key spring is not published yet.').waitFor();
    await button('Cancel').click();
    await key.getByRole('button', { name: 'Copy value of the TXT record spring._domainkey.olmobakery.example' }).click();
    await expect.poll(clipboard).toContain('k=ed25519');
    house.dns.publish({ name: 'spring._domainkey.olmobakery.example', type: 'TXT', value: await clipboard() });
    await key.getByRole('button', { name: 'Activate spring' }).click();
    await button('Activate it').click();
    await key.getByText('active').waitFor();
  });

  it('adds a mailbox and an alias; the password is shown once', async () => {
    await page.getByRole('tab', { name: 'Mailboxes' }).click();
    await button('Add a mailbox').click();
    await page.getByLabel('Name before the @').fill('ana');
    await button('Add the mailbox').click();
    const password = await page.getByLabel('Generated password').textContent();
    expect(password).toMatch(/^[a-z2-9]{5}(-[a-z2-9]{5}){3}$/);
    await button('Done').click();
    await page.getByRole('cell', { name: 'ana@olmobakery.example', exact: true }).waitFor();
    expect(await page.getByText(password ?? '').count()).toBe(0);
    await button('Add an alias').click();
    await page.getByLabel('Name before the @').fill('info');
    await page.getByLabel(/Targets/).fill('nobody@olmobakery.example');
    await button('Add the alias').click();
    await page.getByRole('alert').getByText('There is no mailbox or alias nobody@olmobakery.example here.').waitFor();
    await page.getByLabel(/Targets/).fill('ana@olmobakery.example\nli@out.example');
    await button('Add the alias').click();
    await page.getByRole('cell', { name: 'ana@olmobakery.example, li@out.example' }).waitFor();
  });

  it('sets a limit, and sees the meter', async () => {
    await page.getByRole('tab', { name: 'Sending' }).click();
    await page.getByLabel('Per', { exact: true }).selectOption('hour');
    await page.getByLabel('Limit', { exact: true }).fill('25');
    await button('Set the limit').click();
    await expect.poll(async () => page.getByLabel('sends in the last hour').first().getAttribute('max')).toBe('25');
    await page.getByText('its own, the plan has 200').first().waitFor();
    await page.getByRole('tab', { name: 'Raise for a while' }).click();
    await page.getByLabel('Limit', { exact: true }).fill('60');
    await page.getByLabel('Why').fill('the Christmas letter');
    await button('Raise the limit').click();
    await page
      .getByText(/raised until/)
      .first()
      .waitFor();
    await expect.poll(async () => page.getByLabel('sends in the last hour').first().getAttribute('max')).toBe('60');
    await button('End the raise now').click();
    await page.getByRole('dialog', { name: 'End the raise now' }).getByRole('button', { name: 'End the raise', exact: true }).click();
    await expect.poll(async () => page.getByLabel('sends in the last hour').first().getAttribute('max')).toBe('25');
    await seen('No charges in this period.');
  });

  it('finds a hostile message in the traffic, shown as text and nothing else, and follows its journey', async () => {
    const { service } = house;
    const { db, clock } = service.context;
    const { addEntry, addJourney } = await import('../../src/store/journeys.ts');
    const evil = '<img src=x onerror="window.hacked=1"><script>window.hacked=1</script>';
    await db.commit(() => {
      const journey: JourneyFacts = {
        id: 'j2hostile',
        at: clock.now(),
        kind: 'received',
        sender: 'x@out.example',
        recipients: 'ana@olmobakery.example',
        subject: evil,
        client: '203.0.113.9',
        domain: 'olmobakery.example',
        mailbox: null,
        messageId: null,
        envelopeId: null,
        returnContent: null,
        smtputf8: false,
        signsFor: null,
        isVouched: true,
        isDisowned: false,
      };
      addJourney(db, journey, { outcome: 'refused', file: null, size: 0 });
      addEntry(db, {
        at: clock.now(),
        journeyId: 'j2hostile',
        domain: 'olmobakery.example',
        event: 'refused',
        data: { reply: `550 5.7.1 ${evil}` },
      });
    });
    await page.getByRole('link', { name: 'Traffic' }).click();
    await page.getByLabel('Search messages').fill('x@out.example');
    await page.getByRole('cell', { name: /<img src=x/ }).waitFor();
    await page.waitForURL(/search=x%40out\.example/);
    await page.getByRole('link', { name: /journey j2hostile/ }).click();
    await seen(`550 5.7.1 ${evil}`);
    expect(await page.evaluate(() => (window as { hacked?: number }).hacked)).toBeUndefined();
  });

  it('removes the domain only after its name is typed, told what goes with it', async () => {
    await page.goto(`${house.api.url}/domains/olmobakery.example?tab=settings`);
    await button(/^Remove olmobakery/).click();
    await seen('1 mailbox with 0 messages');
    const remove = page.getByRole('dialog').getByRole('button', { name: 'Remove' });
    expect(await remove.isDisabled()).toBe(true);
    await page.getByLabel('Type olmobakery.example to confirm').fill('olmobakery.example');
    await remove.click();
    await seen(/No domains yet/);
  });

  it('works by keyboard, in the dark, in a narrow window, and says when the service is gone', async () => {
    await page.goto(house.api.url);
    await settled(page);
    await page.keyboard.press('Tab');
    expect(await page.evaluate(() => document.activeElement?.textContent)).toBe('Go to the page');
    const background = () =>
      page
        .locator('.panel')
        .first()
        .evaluate((panel) => getComputedStyle(panel).backgroundColor);
    const light = await background();
    await button(/^Colours: as the system/).click();
    await button(/^Colours: light/).click();
    await expect.poll(background).not.toBe(light);
    await page.setViewportSize({ width: 390, height: 800 });
    for (const path of ['/', '/domains', '/traffic', '/customers', '/host', '/access']) {
      await page.goto(house.api.url + path);
      await settled(page);
      expect(await page.evaluate(() => document.documentElement.scrollWidth), path).toBeLessThanOrEqual(390);
    }
    // The pages are folded away there, and the page has the screen.
    expect(await page.locator('aside').evaluate((one) => one.clientHeight)).toBeLessThan(100);
    await button('Access').click();
    await page.getByRole('link', { name: 'Queue' }).click();
    await page.getByRole('heading', { name: 'Queue', level: 1 }).waitFor();
    // Whoever goes to another page is there: with the title of the window, and with the keyboard.
    expect(await page.title()).toBe('Queue – Tenedor');
    expect(await page.evaluate(() => document.activeElement?.textContent)).toBe('Queue');
    expect(await page.getByRole('link', { name: 'Traffic' }).isVisible()).toBe(false);
    await page.goto(`${house.api.url}/no/such/page`);
    await seen('There is no page at this address.');
    expect(browser.faults).toEqual([]);
    await page.goto(`${house.api.url}/host`);
    await page.getByRole('heading', { name: 'mail.host.example' }).waitFor();
    await page.route('**/api/**', (route) => route.abort());
    await button('Check again').click();
    await page.getByRole('alert').getByText('The service does not answer.').waitFor({ timeout: 40_000 });
  });
});
