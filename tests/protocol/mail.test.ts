import { once } from 'node:events';
import nodemailer from 'nodemailer';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { JourneyView } from '../../src/api/journey-schemas.ts';
import type { QueueItem } from '../../src/api/queue-schemas.ts';
import type { Overview } from '../../src/api/schemas.ts';
import { Resolver } from '../../src/dns/resolver.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { StandInProvider, type Temper } from '../../src/standins/provider.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
const providers = {} as Record<Temper, StandInProvider>;
const providerDns = new StandInDns();
const ADDRESSES: Record<Temper, string> = { strict: '203.0.113.10', open: '203.0.113.20', slow: '203.0.113.30' };

beforeAll(async () => {
  // The providers ask a name server of their own, which knows what the house publishes.
  for (const zone of ['example', 'in-addr.arpa', 'ip6.arpa']) providerDns.addZone(zone);
  const resolver = new Resolver({
    servers: [{ address: '127.0.0.1', port: await providerDns.listen() }],
    timeoutMs: 500,
    tries: 2,
    now: Date.now,
  });
  const { mkdtempSync } = await import('node:fs');
  const certificate = await loadCertificate(null, mkdtempSync('/tmp/tenedor-provider-'), 'mx.provider.example');
  let dial = '';
  for (const temper of ['strict', 'open', 'slow'] as const) {
    providers[temper] = new StandInProvider(`${temper}.example`, temper, resolver.lookup, certificate);
    dial += `[[dial]]\nto = "${ADDRESSES[temper]}:25"\nthrough = "127.0.0.1:${await providers[temper].listen()}"\nproxy = true\n`;
  }
  dial += '[[dial]]\nto = "203.0.113.99:25"\nthrough = "127.0.0.1:1"\n';
  house = await openHouse({ dial });
  await house.provide('shop.example', ['ana', 'li', 'reader']);
  await house.provide('other.example', ['bea', 'gus']);
  for (const temper of ['strict', 'open', 'slow'] as const) {
    house.dns.publish({ name: `${temper}.example`, type: 'MX', value: `10 mx.${temper}.example` });
    house.dns.publish({ name: `mx.${temper}.example`, type: 'A', value: ADDRESSES[temper] });
  }
  house.dns.publish({ name: 'dead.example', type: 'MX', value: '10 mx.dead.example' });
  house.dns.publish({ name: 'mx.dead.example', type: 'A', value: '203.0.113.99' });
  house.dns.publish({ name: 'nomail.example', type: 'MX', value: '0 .' });
  const { body } = await house.api.call<{ records: Parameters<StandInDns['typeIn']>[0][] }>('GET', '/domains/shop.example/records');
  providerDns.typeIn(...body.records);
});

afterAll(async () => {
  await house.close();
  for (const provider of Object.values(providers)) provider.close();
  providerDns.close();
});

const client = (port: number, user: string | null, options: object = {}) =>
  nodemailer.createTransport({
    host: '127.0.0.1',
    port,
    name: 'client.example',
    tls: { rejectUnauthorized: false },
    ...(user ? { auth: { user, pass: PASSWORD } } : {}),
    ...options,
  });
const idOf = (response: string): string => /Accepted as (\S+)/.exec(response)?.[1] ?? '';
const journey = async (id: string): Promise<JourneyView> => (await house.api.call<JourneyView>('GET', `/journeys/${id}`)).body;
const attempted = async (id: string): Promise<void> => {
  for await (const [done] of on()) if (done === id) return;
};
async function* on(): AsyncGenerator<[string]> {
  for (;;) yield (await once(house.service.context.signals, 'attempted')) as [string];
}
/** Reads a mailbox's messages over POP3 with TLS. */
async function inbox(user: string): Promise<string[]> {
  const talk = await Talk.to(house.ports.pop3s, { tls: true });
  await talk.pop(null);
  await talk.pop(`USER ${user}`);
  const opened = await talk.pop(`PASS ${PASSWORD}`);
  const count = Number(/^\+OK (\d+)/.exec(opened)?.[1]);
  const messages: string[] = [];
  for (let number = 1; number <= count; number += 1) messages.push(await talk.pop(`RETR ${number}`, true));
  await talk.pop('QUIT');
  talk.end();
  return messages;
}

describe('submission by nodemailer', () => {
  it.each([
    ['465 with TLS at once', () => client(house.ports.submissions, 'ana@shop.example', { secure: true })],
    ['587 with STARTTLS', () => client(house.ports.submission, 'ana@shop.example', { requireTLS: true })],
    ['587 with LOGIN', () => client(house.ports.submission, 'ana@shop.example', { requireTLS: true, authMethod: 'LOGIN' })],
  ])('%s: accepted, signed, relayed, judged pass in every point', async (title, transport) => {
    const filed = providers.strict.nextFiled();
    const { response } = await transport().sendMail({
      from: 'Ana <ana@shop.example>',
      to: 'mar@strict.example',
      subject: title,
      text: 'Hello.\n.\nBye',
    });
    const message = await filed;
    expect(message).toMatchObject({ folder: 'Inbox', sender: 'ana@shop.example', subject: title, client: '192.0.2.25', tls: true });
    expect([message.judgement.spf.result, message.judgement.dkim[0]?.result, message.judgement.dmarc.result]).toEqual([
      'pass',
      'pass',
      'pass',
    ]);
    expect(message.content.toString()).toMatch(new RegExp(`by mail.host.example with ESMTPSA id ${idOf(response)};`));
  });

  it('the journey goes from the connection to the final reply', async () => {
    const { response } = await client(house.ports.submissions, 'ana@shop.example', { secure: true }).sendMail({
      from: 'ana@shop.example',
      to: ['leo@open.example', 'li@shop.example'],
      subject: 'way',
      text: 'x',
    });
    const id = idOf(response);
    await attempted(id);
    const view = await journey(id);
    expect(view.entries.map((one) => one.event)).toEqual(['connected', 'accepted', 'delivered', 'charged', 'signed', 'relayed']);
    expect(view.entries.at(-1)?.text).toContain('mx.open.example [203.0.113.20] with TLSv1.3 accepted it: 250 2.0.0 Kept');
    expect(view.recipients.map((one) => [one.address, one.state])).toEqual([
      ['leo@open.example', 'relayed'],
      ['li@shop.example', 'delivered'],
    ]);
    expect((await inbox('li@shop.example')).at(-1)).toMatch(/^\+OK\r\nReturn-Path: <ana@shop.example>\r\nReceived: [\s\S]*Subject: way/);
  });

  it('a temporary refusal is delayed and tried again on request', async () => {
    const { response } = await client(house.ports.submissions, 'ana@shop.example', { secure: true }).sendMail({
      from: 'ana@shop.example',
      to: 'vera@slow.example',
      text: 'x',
    });
    const id = idOf(response);
    await attempted(id);
    const { body: queue } = await house.api.call<{ rows: QueueItem[] }>('GET', '/queue');
    expect(queue.rows).toMatchObject([{ journeyId: id, state: 'delayed', attempts: 1 }]);
    expect((queue.rows[0]?.nextAttemptAt ?? 0) - Date.now()).toBeGreaterThan(50_000);
    const again = attempted(id);
    expect((await house.api.call('POST', '/queue/actions', { act: 'retry', ids: [id] })).status).toBe(200);
    await again;
    expect((await journey(id)).recipients).toMatchObject([{ state: 'relayed', attempts: 2, nextAttemptAt: null }]);
    expect((await house.api.call('POST', '/queue/actions', { act: 'retry', ids: [id] })).status).toBe(409);
  });

  it('what fails for good comes back as a report; what can’t be reached waits', async () => {
    const transport = client(house.ports.submissions, 'reader@shop.example', { secure: true });
    const { response } = await transport.sendMail({
      from: 'reader@shop.example',
      to: ['nobody@open.example', 'x@nomail.example', 'y@nowhere-at-all.example', 'z@dead.example'],
      subject: 'lost',
      text: 'x',
    });
    const id = idOf(response);
    const seen = new Set<string>();
    while (seen.size < 4) {
      await attempted(id);
      for (const one of (await journey(id)).recipients) if (one.attempts > 0) seen.add(one.address);
    }
    const { recipients } = await journey(id);
    expect(recipients.map((one) => one.state)).toEqual(['failed', 'failed', 'failed', 'delayed']);
    const reports = (await inbox('reader@shop.example')).filter((one) => one.includes('multipart/report'));
    expect(reports).toHaveLength(3);
    for (const status of ['5.1.1', '5.1.10', '5.1.2']) expect(reports.some((one) => one.includes(`Status: ${status}\r\n`))).toBe(true);
    expect(reports[0]).toContain('Return-Path: <>');
  });

  it('nobody sends as somebody else', async () => {
    const transport = client(house.ports.submissions, 'ana@shop.example', { secure: true });
    await house.api.call('POST', '/aliases', { address: 'info@shop.example', targets: ['ana@shop.example'] });
    const send = (from: string, envelope?: string) =>
      transport.sendMail({
        from,
        to: 'leo@open.example',
        text: 'x',
        ...(envelope ? { envelope: { from: envelope, to: 'leo@open.example' } } : {}),
      });
    for (const [from, envelope] of [
      ['li@shop.example'],
      ['bea@other.example'],
      ['bea@other.example', 'ana@shop.example'],
      ['ana@shop.example', 'bea@other.example'],
      ['"ana@shop.example" <li@shop.example>', 'ana@shop.example'],
      ['ana@shop.example, li@shop.example', 'ana@shop.example'],
    ] as const)
      await expect(send(from, envelope), `${from} / ${envelope}`).rejects.toThrow(/550 5\.7\.1/);
    for (const from of ['ana@shop.example', 'ANA@Shop.Example', 'ana+news@shop.example', 'Info <info@shop.example>'])
      expect((await send(from)).response, from).toMatch(/^250 2\.6\.0/);
  });

  it('a wrong password is refused, and guessing is slowed down for that account and address only', async () => {
    const attempt = async (user: string, password: string, from: string): Promise<string> => {
      const talk = await Talk.to(house.ports.claimedSubmissions, { tls: true, first: `PROXY TCP4 ${from} 192.0.2.25 50000 465\r\n` });
      await talk.say(null);
      await talk.say('EHLO x.example');
      const reply = await talk.say(`AUTH PLAIN ${Buffer.from(`\0${user}\0${password}`).toString('base64')}`);
      talk.end();
      return reply.slice(0, 9);
    };
    for (let number = 0; number < 6; number += 1) expect(await attempt('gus@other.example', 'wrong', '198.51.100.66')).toBe('535 5.7.8');
    expect(await attempt('gus@other.example', PASSWORD, '198.51.100.66')).toBe('454 4.7.0');
    expect(await attempt('nobody@other.example', PASSWORD, '198.51.100.66')).toBe('454 4.7.0');
    expect(await attempt('ana@shop.example', PASSWORD, '198.51.100.77')).toBe('235 2.7.0');
  });
});

describe('port 25', () => {
  const bring = async (lines: string[], first?: string): Promise<string[]> => {
    const talk = await Talk.to(first ? house.ports.claimed : house.ports.smtp, first ? { first } : {});
    const replies = [await talk.say(null)];
    for (const line of lines) replies.push(await talk.say(line));
    talk.end();
    return replies;
  };

  it('receives for local addresses, with and without tag, postmaster and abuse, and over STARTTLS', async () => {
    const { response } = await client(house.ports.smtp, null).sendMail({
      from: 'mar@strict.example',
      to: ['reader+shop@shop.example', 'READER@shop.example'],
      subject: 'in',
      text: 'x',
    });
    expect(response).toMatch(/^250 2\.6\.0/);
    expect((await inbox('reader@shop.example')).filter((one) => one.includes('Subject: in\r\n'))).toHaveLength(1);
    // The house's postmaster does not exist yet, so such mail waits with the sender; then it arrives.
    const ask = () =>
      bring([
        'EHLO x.example',
        'MAIL FROM:<>',
        'RCPT TO:<abuse@shop.example>',
        'RCPT TO:<postmaster>',
        'RCPT TO:<postmaster@other.example>',
      ]);
    await house.provide('house.example');
    expect((await ask()).slice(3).map((line) => line.slice(0, 9))).toEqual(['450 4.2.1', '450 4.2.1', '450 4.2.1']);
    const { body } = await house.api.call<Overview>('GET', '/overview');
    expect(body.attention[0]?.headline).toContain('post@house.example takes no mail');
    await house.provide('house.example', ['post']);
    expect((await ask()).slice(3).map((line) => line.slice(0, 3))).toEqual(['250', '250', '250']);
  });

  it('is no open relay', async () => {
    const attempts = [
      'leo@open.example',
      'leo%open.example@elsewhere.example',
      '"leo@open.example"@elsewhere.example',
      'leo@mx.open.example',
    ];
    for (const address of attempts) {
      const replies = await bring(['EHLO x.example', 'MAIL FROM:<ana@shop.example>', `RCPT TO:<${address}>`, 'DATA']);
      expect(
        replies.slice(3).map((line) => line.slice(0, 9)),
        address,
      ).toEqual(['550 5.7.1', '554 5.5.1']);
    }
    const routed = await bring([
      'EHLO x.example',
      'MAIL FROM:<>',
      'RCPT TO:<@mail.host.example:leo@open.example>',
      'RCPT TO:<leo%open.example@shop.example>',
      'RCPT TO:<no-such@shop.example>',
      'RCPT TO:<x@mail.host.example>',
    ]);
    expect(routed.slice(3).map((line) => line.slice(0, 9))).toEqual(['550 5.7.1', '550 5.1.1', '550 5.1.1', '550 5.1.1']);
    const { body } = await house.api.call<{ rows: { trouble: string }[] }>('GET', '/journeys?state=refused&search=leo@open.example');
    expect(body.rows[0]?.trouble).toContain('550 5.7.1');
  });

  it('roles: away is outside, pass-on needs somewhere to go', async () => {
    await house.api.call('POST', '/domains', { name: 'away.example', customer: 'Customer', role: 'away' });
    const nowhere = await house.api.call('POST', '/domains', { name: 'later.example', customer: 'Customer', role: 'pass-on' });
    expect([nowhere.status, nowhere.body.field]).toEqual([422, 'primaryServer']);
    const replies = await bring(['EHLO x.example', 'MAIL FROM:<>', 'RCPT TO:<a@away.example>']);
    expect(replies.slice(3).map((line) => line.slice(0, 9))).toEqual(['550 5.7.1']);
  });

  it('takes the client’s address from PROXY v1 and v2, and nothing without it', async () => {
    const v2 = Buffer.concat([
      Buffer.from('0d0a0d0a000d0a515549540a', 'hex'),
      Buffer.from([0x21, 0x11, 0, 12, 198, 51, 100, 9, 192, 0, 2, 25, 0xc0, 0, 0, 25]),
    ]);
    for (const [first, address] of [
      ['PROXY TCP4 198.51.100.8 192.0.2.25 50000 25\r\n', '198.51.100.8'],
      [v2.toString('latin1'), '198.51.100.9'],
      ['PROXY TCP6 2001:db8::7 2001:db8:25::25 50000 25\r\n', '2001:db8::7'],
    ] as const) {
      const talk = await Talk.to(house.ports.claimed);
      talk.write(Buffer.from(first, 'latin1'));
      await talk.say(null);
      for (const line of ['EHLO x.example', 'MAIL FROM:<p@strict.example>', 'RCPT TO:<ana@shop.example>', 'DATA']) await talk.say(line);
      const id = idOf(await talk.say('From: p@strict.example\r\nSubject: claimed\r\n\r\nx\r\n.'));
      talk.end();
      expect((await journey(id)).journey.client).toBe(address);
    }
    for (const wrong of [
      'EHLO x.example\r\n',
      'PROXY TCP4 999.1.1.1 1.1.1.1 1 2\r\n',
      `PROXY ${'x'.repeat(200)}`,
      '\r\n\r\n\0\r\nQUIT\n\x41'.padEnd(40, 'x'),
    ]) {
      const talk = await Talk.to(house.ports.claimed, { first: wrong });
      expect(await talk.closed(), JSON.stringify(wrong)).toBe('');
    }
  });

  it('garbage instead of TLS ends that connection only', async () => {
    const talk = await Talk.to(house.ports.submissions, { first: 'EHLO x.example\r\nMAIL FROM:<ana@shop.example>\r\n' });
    expect(await talk.closed()).not.toContain('250');
    const started = await Talk.to(house.ports.smtp);
    await started.say(null);
    await started.say('EHLO x.example');
    await started.say('STARTTLS');
    started.write('MAIL FROM:<a@b.example>\r\n');
    expect(await started.closed()).not.toContain('250 2.1.0');
    expect(
      (await client(house.ports.smtp, null).sendMail({ from: 'a@strict.example', to: 'ana@shop.example', text: 'x' })).response,
    ).toMatch(/^250/);
  });

  it('too large and broken messages are refused, and nothing of them is kept', async () => {
    const before = await inbox('ana@shop.example');
    await expect(
      client(house.ports.smtp, null).sendMail({ from: 'a@strict.example', to: 'ana@shop.example', text: 'x'.repeat(1_200_000) }),
    ).rejects.toThrow(/552 5\.3\.4/);
    const replies = await bring([
      'EHLO x.example',
      'MAIL FROM:<a@strict.example>',
      'RCPT TO:<ana@shop.example>',
      'DATA',
      'Subject: bare\n.\nx\r\n.',
    ]);
    expect(replies.at(-1)).toMatch(/^554 5\.6\.0/);
    expect(await inbox('ana@shop.example')).toEqual(before);
  });

  it('an alias that leads outside is paid for by its domain', async () => {
    await house.api.call('POST', '/aliases', { address: 'fan@other.example', targets: ['leo@open.example', 'bea@other.example'] });
    await house.api.call('PUT', '/limits/other.example', { limits: [{ period: 'day', quantity: 'sends', amount: 1 }] });
    const filed = providers.open.nextFiled();
    const send = () =>
      client(house.ports.smtp, null).sendMail({ from: 'mar@strict.example', to: 'fan@other.example', subject: 'on', text: 'x' });
    expect((await send()).response).toMatch(/^250/);
    expect((await filed).recipient).toBe('leo@open.example');
    await expect(send()).rejects.toThrow(/452 4\.7\.28 other\.example has used its limit of 1 send per day/);
  });
});

describe('POP3', () => {
  it('one session at a time; removal only by QUIT; STLS on 110', async () => {
    await client(house.ports.smtp, null).sendMail({ from: 'a@strict.example', to: 'bea@other.example', subject: 'pop', text: '.dot\nx' });
    const open = async (): Promise<Talk> => {
      const talk = await Talk.to(house.ports.pop3);
      await talk.pop(null);
      expect(await talk.pop('USER bea@other.example')).toMatch(/^-ERR/);
      await talk.pop('STLS');
      await talk.startTls();
      await talk.pop('USER bea@other.example');
      return talk;
    };
    const first = await open();
    const opened = await first.pop(`PASS ${PASSWORD}`);
    expect(opened).toMatch(/^\+OK \d+ messages/);
    const second = await open();
    expect(await second.pop(`PASS ${PASSWORD}`)).toMatch(/^-ERR \[IN-USE\]/);
    second.end();
    const stat = await first.pop('STAT');
    const number = Number(/^\+OK (\d+)/.exec(stat)?.[1]);
    const text = await first.pop(`RETR ${number}`, true);
    const listed = await first.pop(`LIST ${number}`);
    expect(Number(listed.trim().split(' ')[2])).toBe(
      text
        .replace('+OK\r\n', '')
        .replace(/\r\n\.\r\n$/, '\r\n')
        .replace('\r\n..dot', '\r\n.dot').length,
    );
    await first.pop(`DELE ${number}`);
    first.end();
    // Hanging up removes nothing; saying QUIT does.
    await new Promise<void>((resolve) => setImmediate(resolve));
    let third = await open();
    while (/IN-USE/.test(await third.pop(`PASS ${PASSWORD}`))) {
      third.end();
      third = await open();
    }
    expect(await third.pop('STAT')).toBe(stat);
    await third.pop('DELE 1');
    await third.pop('QUIT');
    expect((await inbox('bea@other.example')).length).toBe(number - 1);
  });
});

it('no secret reaches the log', () => {
  const text = house.log.join('');
  expect(text).toContain('sign-in refused');
  for (const secret of [PASSWORD, Buffer.from(PASSWORD).toString('base64'), house.token]) expect(text).not.toContain(secret);
});
