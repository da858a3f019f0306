import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { QueueList } from '../../src/api/queue-schemas.ts';
import { openTown, send, type Town } from '../support/town.ts';

let town: Town;
const STRANGER = '203.0.113.66';
const OFFICE = '198.51.100.9';
const PRINTERS = '198.51.100.33';

beforeAll(async () => {
  town = await openTown({ lists: 'refuse_listed = ["blocks.example"]' });
  const { house } = town;
  await house.provide('house.example', ['post']);
  await house.provide('shop.example', ['ana', 'li']);
  await house.provide('xn--tallernuo-s6a.example', ['pau']);
  await house.api.call('POST', '/aliases', { address: 'all@shop.example', targets: ['ana@shop.example'] });
  await house.api.call('POST', '/domains', { name: 'away.example', customer: 'Customer', role: 'away' });
  await house.api.call('POST', '/networks', { cidr: '198.51.100.0/28', maySubmit: true });
  await house.api.call('POST', '/networks', { cidr: '198.51.100.32/28', maySubmit: true, domains: ['shop.example'] });
  await house.api.call('POST', '/networks', { cidr: '198.51.100.64/28', note: 'a forwarder' });
  await house.api.call('POST', '/networks', { cidr: '2001:db8:7::/48', maySubmit: true, domains: ['shop.example'] });
  house.dns.publish({ name: '99.113.0.203.blocks.example', type: 'A', value: '127.0.0.2' });
});
afterAll(() => town.close());

const queued = async (): Promise<number> => (await town.house.api.call<QueueList>('GET', '/queue')).body.recipients;

describe('nobody relays', () => {
  /** Each must be refused for good, whatever the sender says; nothing of it may come into the queue. */
  const TRICKS = [
    '<x@open.example>',
    '<x@OPEN.example.>',
    '<@shop.example:x@open.example>',
    '<@shop.example,@house.example:x@open.example>',
    '<x%open.example@shop.example>',
    '<x%open.example@[192.0.2.25]>',
    '<open.example!x@shop.example>',
    '<open.example!x>',
    '<"x@open.example"@shop.example>',
    '<"x@open.example">',
    '<"x%open.example"@shop.example>',
    '<x@open.example@shop.example>',
    '<x@shop.example@open.example>',
    '<x@[203.0.113.20]>',
    '<x@[192.0.2.25]>',
    '<x@203.0.113.20>',
    '<x@away.example>',
    '<x@sub.shop.example>',
    '<x@shop.example.open.example>',
    '<x@shоp.example>',
    '<x@xn--shp-6cd.example>',
    '<x@tallernuno.example>',
    '<x@shop.example\u0000.open.example>',
    '< x@open.example >',
    '<x@shop.example,y@open.example>',
    'x@open.example',
    '<>',
  ];
  it.each(
    TRICKS.flatMap((trick) =>
      ['stranger@far.example', '', 'ana@shop.example', 'postmaster@mail.host.example'].map((from) => [trick, from]),
    ),
  )('%j from <%s>', async (trick, from) => {
    const talk = await town.from(STRANGER);
    await talk.say('EHLO trick.example');
    const mail = await talk.say(`MAIL FROM:<${from}> SMTPUTF8`);
    if (mail.startsWith('250')) expect(await talk.say(`RCPT TO:${trick}`)).toMatch(/^5\d\d /);
    talk.end();
    expect(await queued()).toBe(0);
  });

  it('not through STARTTLS, not with a password on port 25, not after a failed sign-in, not from a network that only forwards', async () => {
    const talk = await town.from(STRANGER);
    await talk.say('EHLO trick.example');
    expect(await talk.say('AUTH PLAIN AGFuYQBwYXNz')).toMatch(/^503 5\.5\.1/);
    expect(await talk.say('STARTTLS')).toMatch(/^220/);
    await talk.startTls();
    await talk.say('EHLO trick.example');
    expect(await send(talk, 'ana@shop.example', 'x@open.example')).toMatch(/^550 5\.7\.1/);
    talk.end();
    const forwarder = await town.from('198.51.100.70');
    await forwarder.say('EHLO list.example');
    expect(await send(forwarder, 'a@list.example', 'x@open.example')).toMatch(/^550 5\.7\.1/);
    forwarder.end();
    expect(await queued()).toBe(0);
  });

  it('an alias or a domain here never makes another server’s name local', async () => {
    const talk = await town.from(STRANGER);
    await talk.say('EHLO a.example');
    expect(await send(talk, 'x@far.example', ['all@shop.example', 'pau@xn--tallernuo-s6a.example'])).toMatch(/^250 2\.6\.0/);
    talk.end();
  });
});

describe('networks that may send without signing in', () => {
  const submit = async (address: string, from: string, header = from): Promise<string> => {
    const talk = await town.from(address);
    await talk.say('EHLO printer.example');
    const reply = await send(talk, from, 'leo@open.example', `From: ${header}\r\nSubject: scan\r\n\r\nx\r\n`);
    talk.end();
    return reply;
  };

  it('as anybody, or only as their domains; IPv4 and IPv6; signed when the domain is here', async () => {
    const filed = town.open.nextFiled();
    expect(await submit(OFFICE, 'device@far.example')).toMatch(/^250 2\.6\.0/);
    expect((await filed).sender).toBe('device@far.example');
    expect(await submit(PRINTERS, 'device@far.example')).toMatch(
      /^550 5\.7\.1 The network 198\.51\.100\.32\/28 may not send as device@far\.example/,
    );
    expect(await submit(PRINTERS, 'scan@shop.example', 'boss@far.example')).toMatch(/^550 5\.7\.1/);
    const signed = town.open.nextFiled();
    expect(await submit('2001:db8:7::5', 'scan@shop.example')).toMatch(/^250 2\.6\.0/);
    expect((await signed).content.toString()).toContain('DKIM-Signature:');
    expect(await submit('2001:db8:8::5', 'scan@shop.example')).toMatch(/^550 5\.7\.1 Mail for open\.example is not accepted here/);
  });

  it('with a limit of their own, charged to the network and to the domain', async () => {
    const { api } = town.house;
    const cidr = encodeURIComponent('198.51.100.32/28');
    await api.call('PUT', `/limits/${cidr}`, { limits: [{ period: 'hour', quantity: 'messages', amount: 1 }] });
    expect(await submit(PRINTERS, 'scan@shop.example')).toMatch(/^250/);
    expect(await submit(PRINTERS, 'scan@shop.example')).toMatch(
      /^452 4\.7\.28 198\.51\.100\.32\/28 has used its limit of 1 message per hour/,
    );
    expect((await api.call<{ total: object }>('GET', `/ledger/${cidr}`)).body.total).toMatchObject({ messages: 1, sends: 1 });
  });

  it('a network that is too large, or named with domains it may not use, is refused', async () => {
    const { api } = town.house;
    expect((await api.call('POST', '/networks', { cidr: '10.0.0.0/8', maySubmit: true })).status).toBe(422);
    expect((await api.call('POST', '/networks', { cidr: '192.0.2.0/24', domains: ['shop.example'] })).status).toBe(422);
    expect((await api.call('PATCH', '/networks', { cidr: '198.51.100.64/28', maySubmit: true, domains: ['nobody.example'] })).status).toBe(
      404,
    );
  });
});

describe('port 25 minds its manners', () => {
  it('refuses who greets as this very server, and who is on a chosen list, but postmaster is reached', async () => {
    for (const name of ['mail.host.example', 'MAIL.host.example.', '[192.0.2.25]', '[IPv6:2001:db8:25::25]']) {
      const talk = await town.from(STRANGER);
      await talk.say(`EHLO ${name}`);
      expect(await talk.say('MAIL FROM:<x@far.example>'), name).toMatch(/^550 5\.7\.1 You greeted as/);
      talk.end();
    }
    const listed = await town.from('203.0.113.99');
    await listed.say('EHLO far.example');
    await listed.say('MAIL FROM:<x@far.example>');
    expect(await listed.say('RCPT TO:<ana@shop.example>')).toMatch(/^554 5\.7\.1 203\.0\.113\.99 is on the block list blocks\.example/);
    expect(await listed.say('RCPT TO:<postmaster@shop.example>')).toMatch(/^250/);
    listed.end();
  });
});

it('who speaks before the greeting is shown the door', async () => {
  const patient = await openTown({ mail: 'greet_after_ms = 300' });
  try {
    const { Talk } = await import('../support/talk.ts');
    const early = await Talk.to(patient.house.ports.smtp);
    early.write('EHLO hurry.example\r\n');
    expect(await early.closed()).toMatch(/^554 5\.5\.1 You spoke before mail\.host\.example greeted you/);
    // Whoever asks why nothing came finds it, once for each client.
    const journalled = async () =>
      (await patient.house.api.call<{ rows: { text: string }[] }>('GET', '/journal?limit=200')).body.rows.filter((one) =>
        one.text.includes('spoke before the greeting'),
      );
    await expect.poll(journalled).toMatchObject([{ text: expect.stringMatching(/^127\.0\.0\.1 spoke .* refused: 554 5\.5\.1 You spoke/) }]);
    const calm = await Talk.to(patient.house.ports.smtp);
    expect(await calm.say(null)).toMatch(/^220/);
    expect(await calm.say('EHLO calm.example')).toContain('250');
    calm.end();
  } finally {
    await patient.close();
  }
});
