import { createTransport } from 'nodemailer';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Trial, TrialHead } from '../../src/api/trial-schemas.ts';
import { fileInUse } from '../../src/store/messages.ts';
import { findTrial, lastSample } from '../../src/store/trials.ts';
import { HOST, PASSWORD } from '../support/house.ts';
import { openTown, type Town } from '../support/town.ts';

let town: Town;
beforeAll(async () => {
  town = await openTown({ lists: 'block_lists = ["lists.example"]\nrefuse_listed = ["lists.example"]' });
  const { dns, provide } = town.house;
  await provide('shop.example', ['ana']);
  dns.publish({ name: 'far.example', type: 'TXT', value: 'v=spf1 -all' });
  dns.publish({ name: 'far.example', type: 'MX', value: '10 mx.far.example' });
  dns.publish({ name: '_dmarc.far.example', type: 'TXT', value: 'v=DMARC1; p=reject' });
  dns.publish({ name: '66.113.0.203.lists.example', type: 'A', value: '127.0.0.2' });
});
afterAll(() => town.close());

const ask = async (): Promise<Trial> => (await town.house.api.call<Trial>('POST', '/rehearsals/messages')).body;
const show = async (id: number): Promise<Trial> => (await town.house.api.call<Trial>('GET', `/rehearsals/messages/${id}`)).body;
const scored = async (id: number): Promise<Trial> => {
  await town.house.service.trials.settled();
  return show(id);
};
const text = (to: string, subject = 'Hello'): string =>
  `From: leo@far.example\r\nTo: ${to}\r\nSubject: ${subject}\r\nDate: ${new Date().toUTCString()}\r\nMessage-ID: <1@far.example>\r\n\r\nGood morning.\r\n`;
/** Brings a message as another server does; returns the replies to RCPT and to the message. */
async function bring(to: string[], from = '203.0.113.9', content = text(to[0] ?? '')): Promise<string[]> {
  const talk = await town.from(from);
  await talk.say('EHLO mx.far.example');
  await talk.say('MAIL FROM:<leo@far.example>');
  const replies: string[] = [];
  for (const one of to) replies.push(await talk.say(`RCPT TO:<${one}>`));
  if (replies.some((one) => one.startsWith('250'))) {
    await talk.say('DATA');
    replies.push(await talk.say(`${content}.`));
  }
  talk.end();
  return replies;
}
const codes = (trial: Trial): string[] => trial.findings.filter((one) => one.costs > 0).map((one) => one.code);

describe('an address for one message', () => {
  it('takes what others would refuse, once, and says what it is worth', async () => {
    const made = await ask();
    expect(made).toMatchObject({ state: 'waiting', address: expect.stringMatching(/^try-[a-z0-9]{4}-[a-z0-9]{4}@mail\.host\.example$/) });
    const address = made.address ?? '';
    // Whoever is on a list is refused elsewhere.
    expect((await bring(['ana@shop.example'], '203.0.113.66'))[0]).toMatch(/^554/);
    // Written as people write it; a forged sender, from a listed address.
    expect(await bring([address.toUpperCase()], '203.0.113.66')).toEqual([expect.stringMatching(/^250/), expect.stringMatching(/^250/)]);
    const trial = await scored(made.id);
    expect(trial).toMatchObject({ state: 'scored', sender: 'leo@far.example', subject: 'Hello', outOf: 100, beforeAt: null });
    expect(codes(trial).sort()).toEqual([
      'block-lists-listed',
      'dkim-none',
      'dmarc-fail',
      'greeting-nowhere',
      'reverse-none',
      'spf-fail',
      'tls-none',
    ]);
    expect(trial.points).toBe(100 - 12 - 14 - 16 - 3 - 8 - 10 - 4);
    expect((await bring([address]))[0]).toMatch(/^550 5\.2\.1 .* takes one message/);
    const { body } = await town.house.api.call<{ steps: { text: string }[] }>('GET', `/journeys/${trial.journeyId}`);
    expect(JSON.stringify(body)).toContain(`tenedor rehearse message ${trial.id}`);
  });

  it('scores the same message again by the DNS of today, and shows both', async () => {
    const { id, address } = await ask();
    await bring([address ?? '']);
    const before = await scored(id);
    expect(codes(before)).toContain('spf-fail');
    const { dns } = town.house;
    dns.withdraw('far.example', 'TXT');
    dns.publish({ name: 'far.example', type: 'TXT', value: 'v=spf1 ip4:203.0.113.9 -all' });
    const after = (await town.house.api.call<Trial>('POST', `/rehearsals/messages/${id}/again`)).body;
    expect(after).toMatchObject({ pointsBefore: before.points, outOfBefore: 100, beforeAt: before.scoredAt });
    expect(after.points).toBe((before.points ?? 0) + 10 + 16 - 3);
    expect(after.mended.map((one) => one.code).sort()).toEqual(['dmarc-fail', 'spf-fail']);
    expect(after.subjects.find((one) => one.subject === 'spf')).toEqual({ subject: 'spf', worth: 10, costs: 0, costsBefore: 10 });
  });

  it('scores what is submitted here as others would get it, and charges nobody', async () => {
    const { id, address } = await ask();
    const { ports, dns, api } = town.house;
    dns.publish({ name: HOST.name, type: 'A', value: '192.0.2.25' });
    dns.publish({ name: '25.2.0.192.in-addr.arpa', type: 'PTR', value: HOST.name });
    dns.publish({ name: 'shop.example', type: 'MX', value: `10 ${HOST.name}` });
    dns.publish({ name: 'shop.example', type: 'TXT', value: `v=spf1 a:${HOST.name} -all` });
    dns.publish({ name: '_dmarc.shop.example', type: 'TXT', value: 'v=DMARC1; p=quarantine' });
    const sheet = (
      await api.call<{ records: { name: string; type: 'TXT'; value: string; subject: string }[] }>('GET', '/domains/shop.example/records')
    ).body;
    for (const { name, type, value } of sheet.records.filter((one) => one.subject === 'dkim')) dns.publish({ name, type, value });
    const client = createTransport({
      host: '127.0.0.1',
      port: ports.submissions,
      secure: true,
      tls: { rejectUnauthorized: false },
      auth: { user: 'ana@shop.example', pass: PASSWORD },
    });
    await client.sendMail({
      from: 'ana@shop.example',
      to: address ?? '',
      subject: 'Menu',
      text: 'Soup, fish and fruit today.',
      html: '<p>Soup, fish and fruit today.</p>',
    });
    client.close();
    const trial = await scored(id);
    expect(codes(trial)).toEqual([]);
    expect(trial).toMatchObject({ points: 96, outOf: 96, sender: 'ana@shop.example' });
    expect(trial.findings.find((one) => one.code === 'spf-pass')?.headline).toContain('192.0.2.25');
    expect(town.house.service.context.db.one('SELECT count(*) AS charges FROM ledger')).toEqual({ charges: 0 });
  });

  it('what comes wrong gets an answer: too large, to others too, twice at once, to none', async () => {
    const { id, address = '' } = await ask();
    const talk = await town.from('203.0.113.9');
    await talk.say('EHLO mx.far.example');
    await talk.say('MAIL FROM:<leo@far.example> SIZE=900000');
    expect(await talk.say('RCPT TO:<try-none-such@mail.host.example>')).toMatch(/^550 5\.1\.1/);
    expect(await talk.say(`RCPT TO:<${address}>`)).toMatch(/^250/);
    talk.end();
    const both = await Promise.all([bring([address ?? '']), bring([address ?? ''])]);
    expect(both.map(([rcpt, end]) => (end ?? rcpt ?? '').slice(0, 3)).sort()).toEqual(['250', expect.stringMatching(/^(451|550)$/)]);
    expect((await scored(id)).state).toBe('scored');
    const { status, body } = await town.house.api.call('POST', `/rehearsals/messages/${(await ask()).id}/again`);
    expect([status, body.title]).toEqual([404, expect.any(String)]);
    for (const wrong of ['0', '99999', 'x', '1e3', '-1'])
      expect((await town.house.api.call('GET', `/rehearsals/messages/${wrong}`)).status).toBe(404);
  });

  it('is found in the list, and removed with its text', async () => {
    const { id, address } = await ask();
    await bring([address ?? ''], '203.0.113.9', text(address ?? '', 'Only here'));
    await scored(id);
    const { db } = town.house.service.context;
    const file = findTrial(db, id)?.file ?? '';
    expect(fileInUse(db, file)).toBe(true);
    const found = await town.house.api.list<TrialHead>('/rehearsals/messages?search=Only+here');
    expect(found.map((one) => one.id)).toEqual([id]);
    expect((await town.house.api.call('DELETE', `/rehearsals/messages/${id}`)).status).toBe(200);
    expect(fileInUse(db, file)).toBe(false);
    expect((await bring([address ?? '']))[0]).toMatch(/^550 5\.1\.1/);
    expect((await town.house.api.call('DELETE', `/rehearsals/messages/${id}`)).status).toBe(404);
  });
});

it('what came and was not scored before a stop is scored after the start', async () => {
  const { trials, context } = town.house.service;
  await trials.stop();
  const { id, address } = await ask();
  await bring([address ?? '']);
  expect((await show(id)).state).toBe('arrived');
  trials.start();
  expect((await scored(id)).state).toBe('scored');
  expect(context.db.one('SELECT count(*) AS n FROM trial_score WHERE trial_id = ?', id)).toEqual({ n: 1 });
});

it('a domain that is sampled has one message a day scored, of which nothing is kept', async () => {
  const { api, service } = town.house;
  const changed = await api.call<{ isSampled: boolean }>('PATCH', '/domains/shop.example', { isSampled: true });
  expect(changed.body.isSampled).toBe(true);
  expect((await api.call('PATCH', '/domains/shop.example', { isSampled: 'often' })).status).toBe(422);
  const talk = await town.signedIn('ana@shop.example');
  for (const subject of ['A secret', 'Another']) {
    await talk.say('MAIL FROM:<ana@shop.example>');
    await talk.say('RCPT TO:<vera@open.example>');
    await talk.say('DATA');
    expect(await talk.say(`From: ana@shop.example\r\nSubject: ${subject} plan\r\n\r\nhttp://x\r\n.`)).toMatch(/^250/);
    await service.trials.settled();
  }
  talk.end();
  const samples = (await api.list<TrialHead>('/rehearsals/messages')).filter((one) => one.domain === 'shop.example');
  expect(samples).toHaveLength(1);
  const [sample] = samples;
  const whole = await show(sample?.id ?? 0);
  expect(whole).toMatchObject({ state: 'scored', address: null, subject: null, sender: 'ana@shop.example' });
  expect(codes(whole)).toEqual(['fields-to-missing']);
  expect(JSON.stringify(whole)).not.toContain('secret');
  expect(findTrial(service.context.db, whole.id)?.file).toBeNull();
  expect((await api.call('POST', `/rehearsals/messages/${whole.id}/again`)).status).toBe(404);
  expect(lastSample(service.context.db, 999)).toBeNull();
});
