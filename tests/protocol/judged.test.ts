import { generateKeyPairSync, sign } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { JourneyView } from '../../src/api/journey-schemas.ts';
import type { Limits } from '../../src/api/mail-schemas.ts';
import { keyRecordText } from '../../src/core/dkim/key-record.ts';
import { prepareSignatures } from '../../src/core/dkim/sign.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

const BANK = '203.0.113.50';
const STRANGER = '203.0.113.200';
const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
let house: House;

beforeAll(async () => {
  house = await openHouse();
  for (const [domain, judge] of [
    ['strict.example', 'enforce'],
    ['mild.example', 'junk'],
    ['calm.example', 'note'],
  ] as const) {
    await house.provide(domain, ['ana']);
    await house.api.call('PATCH', `/domains/${domain}`, { judge });
  }
  const key = keyRecordText(publicKey.export({ format: 'der', type: 'spki' }).toString('base64'));
  for (const [domain, policy] of [
    ['bank.example', 'reject'],
    ['shop.example', 'quarantine'],
    ['blog.example', 'none'],
  ]) {
    house.dns.publish({ name: domain ?? '', type: 'TXT', value: `v=spf1 ip4:${BANK} -all exp=why.bank.example` });
    house.dns.publish({ name: `_dmarc.${domain}`, type: 'TXT', value: `v=DMARC1; p=${policy}` });
    house.dns.publish({ name: `k1._domainkey.${domain}`, type: 'TXT', value: key });
  }
  house.dns.publish({ name: 'why.bank.example', type: 'TXT', value: 'only our own servers send for %{o}' });
  house.dns.publish({ name: '_dmarc.lost.example', type: 'TXT', value: 'v=DMARC1; p=reject' });
  house.dns.silent.add('quiet.lost.example');
  house.dns.publish({ name: 'lost.example', type: 'TXT', value: 'v=spf1 include:quiet.lost.example -all' });
});
afterAll(() => house.close());

interface Told {
  code: string;
  text: string;
  id: string;
}

/** Brings a message over port 25 as if from that address; the reply to the recipient if it was refused, else to the message. */
async function bring(
  author: string,
  to: string | string[],
  client: string,
  options: { sender?: string; text?: string } = {},
): Promise<Told> {
  const talk = await Talk.to(house.ports.claimed, { first: `PROXY TCP4 ${client} 192.0.2.25 40000 25\r\n` });
  await talk.say(null);
  await talk.say('EHLO mx.bank.example');
  await talk.say(`MAIL FROM:<${options.sender ?? author}>`);
  let reply = '';
  for (const one of [to].flat()) {
    reply = await talk.say(`RCPT TO:<${one}>`);
    if (!reply.startsWith('250')) break;
  }
  if (reply.startsWith('250')) {
    await talk.say('DATA');
    reply = await talk.say(`${options.text ?? `From: ${author}\r\nSubject: judged\r\n\r\nbody\r\n`}.`);
  }
  talk.end();
  return { code: /^\d{3} [\d.]+/.exec(reply)?.[0] ?? '', text: reply, id: /Accepted as (\S+)/.exec(reply)?.[1] ?? '' };
}

/** Where local recipients got it, and what the journey says of the judgement. */
async function story(id: string): Promise<{ folder: string; judged: string }> {
  const { body } = await house.api.call<JourneyView>('GET', `/journeys/${id}`);
  const entry = (event: string) => body.entries.find((one) => one.event === event);
  return { folder: String(entry('delivered')?.data['folder']), judged: entry('judged')?.text ?? '' };
}

describe('mail from outside is judged', () => {
  it.each([
    ['enforce', 'bank.example', 'strict', '550 5.7.26', ''],
    ['enforce', 'shop.example', 'strict', '250 2.6.0', 'Junk'],
    ['enforce', 'blog.example', 'strict', '250 2.6.0', 'Inbox'],
    ['junk', 'bank.example', 'mild', '250 2.6.0', 'Junk'],
    ['junk', 'shop.example', 'mild', '250 2.6.0', 'Junk'],
    ['note', 'bank.example', 'calm', '250 2.6.0', 'Inbox'],
  ])('%s, forged %s: %s.example says %s %s', async (_judge, author, recipient, code, folder) => {
    const told = await bring(`ceo@${author}`, `ana@${recipient}.example`, STRANGER);
    expect(told.code).toBe(code);
    if (folder !== '') expect((await story(told.id)).folder).toBe(folder);
  });

  it('a refusal names the policy and what failed, and the journey says it with the domain’s own words', async () => {
    const { text } = await bring('ceo@bank.example', 'ana@strict.example', STRANGER);
    expect(text).toBe(
      '550 5.7.26 bank.example asks to reject mail that fails its DMARC policy, p=reject: SPF gives fail for bank.example, and there is no DKIM signature',
    );
    const { body } = await house.api.call<{ rows: { id: string }[] }>('GET', '/journeys?state=refused&search=ceo@bank.example');
    const { judged } = await story(body.rows[0]?.id ?? '');
    expect(judged).toContain('SPF fail for bank.example (HELO none), which says: “only our own servers send for bank.example”');
    expect(judged).toContain('DMARC fail for bank.example');
  });

  it('the genuine passes by SPF, and by DKIM through a forwarder', async () => {
    const direct = await bring('ceo@bank.example', 'ana@strict.example', BANK);
    expect(direct.code).toBe('250 2.6.0');
    expect((await story(direct.id)).judged).toContain('DMARC pass for bank.example (aligned SPF of bank.example)');
    const plain = Buffer.from('From: ceo@bank.example\r\nSubject: signed\r\n\r\nbody\r\n');
    const [prepared] = await prepareSignatures(plain, {
      domain: 'bank.example',
      keys: [{ selector: 'k1', type: 'rsa' }],
      at: Math.floor(Date.now() / 1000),
    });
    const text = `${prepared?.field(sign('sha256', prepared.input, privateKey))}${plain}`;
    const forwarded = await bring('ceo@bank.example', 'ana@strict.example', STRANGER, { sender: 'list@forwarder.example', text });
    expect((await story(forwarded.id)).judged).toContain('DMARC pass for bank.example (aligned signature of bank.example)');
    const changed = await bring('ceo@bank.example', 'ana@strict.example', STRANGER, {
      sender: 'list@forwarder.example',
      text: text.replace('body', 'b0dy'),
    });
    expect(changed.text).toContain('and DKIM gives fail for bank.example');
  });

  it('the message carries our results, and no forged ones', async () => {
    const forged = 'Authentication-Results: mail.host.example; dmarc=pass header.from=bank.example\r\n';
    const told = await bring('ceo@bank.example', 'ana@calm.example', STRANGER, {
      text: `${forged}From: ceo@bank.example\r\nSubject: stamped\r\n\r\nbody\r\n`,
    });
    const talk = await Talk.to(house.ports.pop3s, { tls: true });
    await talk.pop(null);
    await talk.pop('USER ana@calm.example');
    const count = /^\+OK (\d+)/.exec(await talk.pop(`PASS ${PASSWORD}`))?.[1] ?? '0';
    const message = await talk.pop(`RETR ${count}`, true);
    talk.end();
    expect(told.code).toBe('250 2.6.0');
    expect(message.match(/^Authentication-Results: mail\.host\.example/gm)).toHaveLength(1);
    expect(message).toMatch(/dmarc=fail \(p=reject, [^)]*\)\r\n\t header\.from=bank\.example/);
    expect(message).toContain('smtp.mailfrom=ceo@bank.example');
    // What the message was about is still told from what we found out.
    expect(message.indexOf('Authentication-Results')).toBeLessThan(message.indexOf('From: ceo@'));
  });

  it('a known network’s mail is judged, and nothing follows', async () => {
    expect((await house.api.call('POST', '/networks', { cidr: '203.0.113.192/26', note: 'a list' })).status).toBe(200);
    const told = await bring('ceo@bank.example', 'ana@strict.example', STRANGER);
    expect(told.code).toBe('250 2.6.0');
    expect(await story(told.id)).toMatchObject({
      folder: 'Inbox',
      judged: expect.stringContaining('203.0.113.192/26 is a trusted network'),
    });
    expect((await house.api.call('POST', '/networks/remove', { cidr: '203.0.113.192/26' })).status).toBe(200);
    expect((await bring('ceo@bank.example', 'ana@strict.example', STRANGER)).code).toBe('550 5.7.26');
  });

  it('a name server without an answer never refuses for good', async () => {
    expect((await bring('a@lost.example', 'ana@strict.example', STRANGER)).code).toBe('451 4.7.24');
    expect((await bring('a@lost.example', 'ana@mild.example', STRANGER)).code).toBe('250 2.6.0');
  });

  it('a client that goes away while the name servers are asked leaves nothing: no message, no charge, no room held', async () => {
    await house.api.call('POST', '/aliases', { address: 'fwd@calm.example', targets: ['x@out.example'] });
    const usage = async () => {
      const [hour] = (await house.api.call<Limits>('GET', '/limits/calm.example')).body.limits;
      return { used: hour?.used, reserved: hour?.reserved };
    };
    await house.api.call('PUT', '/limits/calm.example', { limits: [{ period: 'hour', quantity: 'sends', amount: 1000 }] });
    const before = (await usage()).used ?? 0;
    const talk = await Talk.to(house.ports.claimed, { first: `PROXY TCP4 ${STRANGER} 192.0.2.25 40000 25\r\n` });
    await talk.say(null);
    for (const line of ['EHLO mx.bank.example', 'MAIL FROM:<gone@lost.example>', 'RCPT TO:<fwd@calm.example>', 'DATA'])
      await talk.say(line);
    expect((await usage()).reserved).toBe(1);
    const asked = () => house.dns.asked.get('TXT quiet.lost.example') ?? 0;
    const earlier = asked();
    talk.write('From: gone@lost.example\r\n\r\nx\r\n.\r\n');
    await expect.poll(asked).toBeGreaterThan(earlier);
    talk.reset();
    await expect.poll(async () => (await usage()).reserved).toBe(0);
    // The next one takes as long, so whatever became of the first has become of it by then.
    const next = await bring('stays@lost.example', 'fwd@calm.example', STRANGER);
    expect(next.code).toBe('250 2.6.0');
    expect((await usage()).used).toBe(before + 1);
    const { body } = await house.api.call<{ rows: unknown[] }>('GET', '/journeys?search=gone@lost.example');
    expect(body.rows).toEqual([]);
  });

  it('recipients who want different things get messages of their own', async () => {
    expect((await bring('ceo@bank.example', ['ana@strict.example', 'ana@calm.example'], BANK)).code).toBe('452 4.5.3');
    expect((await bring('ceo@bank.example', ['ana@calm.example', 'ana@calm.example'], BANK)).code).toBe('250 2.6.0');
  });

  it.each([
    ['null sender', { sender: '' }],
    [
      'many signatures',
      {
        text: `${'DKIM-Signature: v=1; a=rsa-sha256; d=x.example; s=s; h=from; bh=AA==; b=AA==\r\n'.repeat(200)}From: a@free.example\r\n\r\nx\r\n`,
      },
    ],
  ])('%s gets an answer', async (_what, options) => {
    expect((await bring('a@free.example', 'ana@strict.example', STRANGER, options)).code).toBe('250 2.6.0');
  });

  it.each([
    ['no From at all', 'Subject: x\r\n\r\nbody\r\n'],
    ['From that names nobody', 'From: <<>>,,@\r\n\r\nbody\r\n'],
    ['two authors, by who shows it', 'From: ceo@free.example <a@other-free.example>\r\n\r\nbody\r\n'],
    ['nine domains', `From: ${Array.from({ length: 9 }, (_none, at) => `a@d${at}.example`).join(', ')}\r\n\r\nbody\r\n`],
  ])('%s: refused where the domain enforces, junk where it files, noted where it notes', async (_what, text) => {
    expect((await bring('a@free.example', 'ana@strict.example', STRANGER, { text })).code).toBe('550 5.7.1');
    for (const [domain, folder] of [
      ['mild', 'Junk'],
      ['calm', 'Inbox'],
    ]) {
      const { id } = await bring('a@free.example', `ana@${domain}.example`, STRANGER, { text });
      expect(await story(id)).toEqual({ folder, judged: expect.stringContaining('From names no single author') });
    }
  });

  it('a policy that is not known in time is no way in: come again where the domain enforces, else junk', async () => {
    house.dns.silent.add('_dmarc.bank.example');
    house.service.context.dns.forget();
    expect((await bring('ceo@bank.example', 'ana@strict.example', STRANGER)).code).toBe('451 4.4.3');
    // What is refused in any case need not come again.
    const text = 'From: ceo@bank.example <a@free.example>\r\n\r\nbody\r\n';
    expect((await bring('a@free.example', 'ana@strict.example', STRANGER, { text })).code).toBe('550 5.7.1');
    const { id } = await bring('ceo@bank.example', 'ana@mild.example', STRANGER);
    expect((await story(id)).folder).toBe('Junk');
    house.dns.silent.delete('_dmarc.bank.example');
    house.service.context.dns.forget();
  });

  it.each([' ', '\t'])('a header that begins with %j can’t continue what we put before it', async (blank) => {
    const text = `${blank}dmarc=pass header.from=bank.example\r\nFrom: a@free.example\r\n\r\nbody\r\n`;
    expect((await bring('a@free.example', 'ana@calm.example', STRANGER, { text })).code).toBe('554 5.6.0');
  });
});

it('networks: one spelling for each, and no slip of the hand trusts the world', async () => {
  const add = async (cidr: unknown) => (await house.api.call<{ cidr?: string; detail?: string }>('POST', '/networks', { cidr })).body;
  expect((await add('198.51.100.77/24')).cidr).toBe('198.51.100.0/24');
  expect((await add('198.51.100.0/24')).detail).toContain('is already trusted');
  expect((await add('2001:DB8:7:0::1/48')).cidr).toBe('2001:db8:7::/48');
  expect((await add('192.0.2.9')).cidr).toBe('192.0.2.9/32');
  for (const wrong of ['0.0.0.0/0', '::/0', '10.0.0.0/7']) expect((await add(wrong)).detail).toContain('too large');
  for (const wrong of ['', 'x', '1.2.3/24', '1.2.3.4/33', '1.2.3.4/-1', '1.2.3.4/24/24'])
    expect((await add(wrong)).detail).toContain('is not a network');
});
