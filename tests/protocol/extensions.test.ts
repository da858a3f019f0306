import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { JourneyView } from '../../src/api/journey-schemas.ts';
import { heldContent } from '../../src/core/message/mail-content.ts';
import { ChunkReader } from '../../src/core/smtp/chunk-reader.ts';
import type { Envelope } from '../../src/core/smtp/client-intents.ts';
import { ClientSession } from '../../src/core/smtp/client-session.ts';
import { PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';
import { idOf, openTown, send, type Town } from '../support/town.ts';

let town: Town;
const ANA = 'ana@shop.example';
beforeAll(async () => {
  town = await openTown();
  const { house } = town;
  await house.provide('house.example', ['post']);
  await house.provide('shop.example', ['ana', 'li']);
  await house.provide('other.example', ['bea']);
  await house.api.call('POST', '/aliases', { address: 'team@shop.example', targets: ['li@shop.example', 'bea@other.example'] });
});
afterAll(() => town.close());

async function inbox(user: string): Promise<string[]> {
  const talk = await Talk.to(town.house.ports.pop3s, { tls: true });
  await talk.pop(null);
  await talk.pop(`USER ${user}`);
  const count = Number(/^\+OK (\d+)/.exec(await talk.pop(`PASS ${PASSWORD}`))?.[1]);
  const messages: string[] = [];
  for (let number = 1; number <= count; number += 1) messages.push(await talk.pop(`RETR ${number}`, true));
  for (let number = 1; number <= count; number += 1) await talk.pop(`DELE ${number}`);
  await talk.pop('QUIT');
  talk.end();
  return messages;
}
const TEXT = `From: ${ANA}\r\nSubject: x\r\n\r\nbody of it\r\n`;

describe('delivery reports (RFC 3461)', () => {
  it('NOTIFY=SUCCESS tells of a local delivery, of a list, and of a hand-over to a server that tells nothing', async () => {
    const talk = await town.signedIn(ANA);
    await talk.say(`MAIL FROM:<${ANA}> ENVID=order+2B7 RET=HDRS`);
    for (const rcpt of ['<li@shop.example> NOTIFY=SUCCESS ORCPT=rfc822;Li+40home', '<team@shop.example> NOTIFY=SUCCESS,FAILURE'])
      expect(await talk.say(`RCPT TO:${rcpt}`)).toMatch(/^250/);
    await talk.say('DATA');
    expect(await talk.say(`${TEXT}.`)).toMatch(/^250/);
    talk.end();
    const reports: string[] = [];
    await expect
      .poll(async () => {
        reports.push(...(await inbox(ANA)));
        return reports.length;
      })
      .toBe(2);
    const delivered = reports.find((one) => one.includes('Action: delivered')) ?? '';
    expect(delivered).toContain('Original-Envelope-Id: order+7');
    expect(delivered).toContain('Original-Recipient: rfc822;Li@home');
    expect(delivered).toContain('Final-Recipient: rfc822; li@shop.example');
    expect(delivered).not.toContain('body of it');
    expect(reports.find((one) => one.includes('Action: expanded'))).toContain('Final-Recipient: rfc822; team@shop.example');
  });

  it('NOTIFY=NEVER keeps silent even about failure; RET=FULL brings the whole message back; the empty sender gets nothing', async () => {
    const talk = await town.signedIn(ANA);
    const never = await send(talk, ANA, '<nobody@open.example> NOTIFY=NEVER', TEXT);
    await town.attempted(idOf(never));
    const full = await send(talk, ANA, '<nobody@open.example> NOTIFY=FAILURE', TEXT, ' RET=FULL');
    await town.attempted(idOf(full));
    // RFC 8098 §2.1: answers of programs come with an empty sender.
    const empty = await send(talk, '', 'nobody@open.example', TEXT);
    await town.attempted(idOf(empty));
    talk.end();
    const reports = await inbox(ANA);
    expect(reports).toHaveLength(1);
    expect(reports[0]).toContain('Action: failed');
    expect(reports[0]).toContain('body of it');
    expect(reports[0]).toContain('message/rfc822');
  });

  it('parameters go on to a server that knows them, and are left out for one that does not', () => {
    const say = (offers: string): string => {
      const client = new ClientSession({ heloName: 'c.example', tls: 'none', credentials: null });
      client.receive(Buffer.from('220 x\r\n'));
      client.receive(Buffer.from(`250-x\r\n${offers}250 SIZE\r\n`));
      const envelope: Envelope = {
        sender: ANA,
        recipients: [{ address: 'b@c.example', notify: 'SUCCESS', original: 'rfc822;b@c.example' }],
        content: heldContent(Buffer.from('x')),
        smtputf8: false,
        returnContent: 'HDRS',
        envelopeId: 'e1',
      };
      return client
        .deliver(envelope)
        .map((one) => (one.kind === 'send' ? one.bytes.toString() : ''))
        .join('');
    };
    expect(say('250-DSN\r\n250-PIPELINING\r\n')).toContain(
      `MAIL FROM:<${ANA}> SIZE=1 RET=HDRS ENVID=e1\r\nRCPT TO:<b@c.example> NOTIFY=SUCCESS ORCPT=rfc822;b@c.example\r\n`,
    );
    expect(say('250-PIPELINING\r\n')).toContain(`MAIL FROM:<${ANA}> SIZE=1\r\nRCPT TO:<b@c.example>\r\n`);
  });
});

describe('CHUNKING (RFC 3030)', () => {
  it('a message in chunks arrives whole, octet for octet', async () => {
    const talk = await town.signedIn(ANA);
    await talk.say(`MAIL FROM:<${ANA}>`);
    await talk.say('RCPT TO:<li@shop.example>');
    const first = `From: ${ANA}\r\nSubject: chunks\r\n\r\n.a line with a dot\r`;
    talk.write(`BDAT ${first.length}\r\n${first}`);
    expect(await talk.say(null)).toMatch(/^250/);
    expect(await talk.say('DATA')).toMatch(/^503/);
    const second = '\nthe end\r\n';
    talk.write(`BDAT ${second.length} LAST\r\n${second}`);
    expect(await talk.say(null)).toMatch(/^250 2\.6\.0/);
    // The octets of a chunk are read even where it is refused, so that none of them is taken for a command.
    talk.write('BDAT 6 LAST\r\nQUIT\r\n');
    expect(await talk.say(null)).toMatch(/^503/);
    expect(await talk.say('NOOP')).toMatch(/^250/);
    talk.end();
    const found = (await inbox('li@shop.example')).find((one) => one.includes('Subject: chunks')) ?? '';
    expect(found).toContain('\r\n..a line with a dot\r\nthe end\r\n');
  });

  it('holds text to the rules of DATA, however it is cut', () => {
    const read = (text: string, cuts: number[]) => {
      const reader = new ChunkReader(1000);
      let from = 0;
      for (const cut of [...cuts.map((one) => one % (text.length + 1)).sort((one, other) => one - other), text.length]) {
        reader.push(Buffer.from(text.slice(from, cut)));
        from = cut;
      }
      return reader.end();
    };
    fc.assert(
      fc.property(
        fc.array(fc.constantFrom('a', '.', '\r\n', 'line '), { maxLength: 30 }),
        fc.array(fc.nat(), { maxLength: 5 }),
        (parts, cuts) => {
          const text = parts.join('');
          const { content, defect } = read(text, cuts);
          expect(defect).toBeNull();
          expect(content.toString()).toBe(text === '' || text.endsWith('\r\n') ? text : `${text}\r\n`);
        },
      ),
    );
    for (const [text, defect] of [
      ['a\nb\r\n', 'bare-line-end'],
      ['a\rb\r\n', 'bare-line-end'],
      ['a\r\n.\r\nMAIL FROM:<x@y.example>\n', 'bare-line-end'],
      ['x'.repeat(2000), 'too-big'],
    ] as const)
      expect(read(text, [1, 2]).defect).toBe(defect);
  });
});

describe('SMTPUTF8 (RFC 6531)', () => {
  it('an address beyond ASCII needs it, goes out with it, and comes back in the report as it is', async () => {
    const talk = await town.signedIn(ANA);
    await talk.say(`MAIL FROM:<${ANA}>`);
    expect(await talk.say('RCPT TO:<josé@open.example>')).toMatch(/^553 5\.6\.7/);
    await talk.say('RSET');
    const filed = town.open.nextFiled();
    expect(await send(talk, ANA, 'josé@open.example', TEXT, ' SMTPUTF8')).toMatch(/^250/);
    expect((await filed).recipient).toBe('josé@open.example');
    // Its own name is known here as before; a name beyond ASCII is nobody's.
    await talk.say(`MAIL FROM:<${ANA}> SMTPUTF8`);
    expect(await talk.say('RCPT TO:<josé@shop.example>')).toMatch(/^550 5\.1\.1/);
    expect(await talk.say('RCPT TO:<x@tallernuño.example>')).toMatch(/^250/);
    talk.end();
  });

  it('a next server without it gets nothing, and the sender is told', () => {
    const client = new ClientSession({ heloName: 'c.example', tls: 'none', credentials: null });
    client.receive(Buffer.from('220 x\r\n'));
    client.receive(Buffer.from('250 x\r\n'));
    const outputs = client.deliver({
      sender: ANA,
      recipients: [{ address: 'josé@c.example', notify: null, original: null }],
      content: heldContent(Buffer.from('x')),
      smtputf8: true,
      returnContent: null,
      envelopeId: null,
    });
    expect(outputs[0]).toMatchObject({
      kind: 'finished',
      outcomes: [{ kind: 'never', reply: { code: 553, text: expect.stringMatching(/^5\.6\.7/) } }],
    });
  });
});

describe('twins, catch-all and sizes by domain', () => {
  const call = (method: string, path: string, body?: unknown) => town.house.api.call<Record<string, unknown>>(method, path, body);

  it('a twin’s addresses mean those of the first domain; its users write as both, each signed with its own key', async () => {
    await call('POST', '/domains', { name: 'shop-two.example', customer: 'Customer' });
    expect((await call('PUT', '/domains/shop-two.example/twin', { of: 'shop.example' })).body).toMatchObject({ twinOf: 'shop.example' });
    const talk = await town.signedIn(ANA);
    const filed = town.open.nextFiled();
    expect(await send(talk, 'ana@shop-two.example', 'leo@open.example', 'From: ana@shop-two.example\r\n\r\nx\r\n')).toMatch(/^250/);
    expect((await filed).content.toString()).toMatch(/DKIM-Signature:[^;]*;[\s\S]*d=shop-two\.example/);
    expect(await send(talk, 'li@shop-two.example', 'leo@open.example')).toMatch(/^550 5\.7\.1/);
    talk.end();
    const inbound = await town.from('203.0.113.20');
    await inbound.say('EHLO mx.open.example');
    expect(await send(inbound, 'x@open.example', 'li+tag@shop-two.example', 'From: x@open.example\r\nSubject: twin\r\n\r\nx\r\n')).toMatch(
      /^250/,
    );
    expect((await inbox('li@shop.example')).some((one) => one.includes('Subject: twin'))).toBe(true);
    // An alias may lead to a twin's address, and to itself by no name.
    const alias = (address: string, target: string) => call('POST', '/aliases', { address, targets: [target] });
    expect((await alias('two@shop.example', 'li@shop-two.example')).status).toBe(200);
    expect(await send(inbound, 'x@open.example', 'two@shop.example', 'From: x@open.example\r\nSubject: by the twin\r\n\r\nx\r\n')).toMatch(
      /^250/,
    );
    inbound.end();
    expect((await inbox('li@shop.example')).some((one) => one.includes('Subject: by the twin'))).toBe(true);
    expect((await alias('ring@shop.example', 'ring@shop-two.example')).body.detail).toContain('is ring@shop.example itself');
    expect((await alias('none@shop.example', 'nobody@shop-two.example')).status).toBe(422);
    expect((await call('DELETE', '/domains/shop.example')).status).toBe(409);
    for (const [name, of] of [
      ['shop.example', 'shop-two.example'],
      ['other.example', 'shop.example'],
      ['shop-two.example', 'shop-two.example'],
      ['shop-two.example', 'nobody.example'],
    ])
      expect((await call('PUT', `/domains/${name}/twin`, { of })).status, `${name} of ${of}`).toBeGreaterThanOrEqual(400);
    expect((await call('DELETE', '/domains/shop-two.example/twin')).body).toMatchObject({ twinOf: null });
  });

  it('a catch-all takes what nobody has, after everything else', async () => {
    await call('PATCH', '/domains/other.example', { catchAll: 'bea@other.example' });
    const talk = await town.from('203.0.113.20');
    await talk.say('EHLO mx.open.example');
    expect(await send(talk, 'x@open.example', 'whoever@other.example', 'From: x@open.example\r\nSubject: caught\r\n\r\nx\r\n')).toMatch(
      /^250/,
    );
    talk.end();
    expect((await inbox('bea@other.example')).some((one) => one.includes('Subject: caught'))).toBe(true);
    await call('PATCH', '/domains/other.example', { catchAll: null });
  });

  it('a domain’s own size holds for what it sends and takes, announced or not', async () => {
    await call('PATCH', '/domains/other.example', { mostBytes: 2048 });
    const talk = await town.from('203.0.113.20');
    await talk.say('EHLO mx.open.example');
    await talk.say('MAIL FROM:<x@open.example> SIZE=3000');
    expect(await talk.say('RCPT TO:<bea@other.example>')).toMatch(/^552 5\.3\.4 other\.example takes messages of at most 2048/);
    expect(await talk.say('RCPT TO:<li@shop.example>')).toMatch(/^250/);
    await talk.say('RSET');
    expect(
      await send(talk, 'x@open.example', 'bea@other.example', `From: x@open.example\r\n\r\n${`${'x'.repeat(60)}\r\n`.repeat(40)}`),
    ).toMatch(/^552 5\.3\.4/);
    talk.end();
    const bea = await town.signedIn('bea@other.example');
    expect(await bea.say('MAIL FROM:<bea@other.example> SIZE=3000')).toMatch(/^552/);
    bea.end();
    await call('PATCH', '/domains/other.example', { mostBytes: null });
  });
});

it('a pause is what users and senders hear, until it ends', async () => {
  const { api } = town.house;
  await api.call('POST', '/stops', { scope: 'shop.example', text: 'Shop is moving house' });
  const user = await town.signedIn(ANA);
  expect(await user.say(`MAIL FROM:<${ANA}>`)).toBe('450 4.7.1 Shop is moving house');
  user.end();
  const stranger = await town.from('203.0.113.20');
  await stranger.say('EHLO mx.open.example');
  await stranger.say('MAIL FROM:<x@open.example>');
  expect(await stranger.say('RCPT TO:<li@shop.example>')).toBe('450 4.2.1 Shop is moving house');
  await api.call('POST', '/stops/release', { scope: 'shop.example', kind: 'pause' });
  expect(await stranger.say('RCPT TO:<li@shop.example>')).toMatch(/^250/);
  stranger.end();
});

it('over a limit that holds, mail is accepted, shown as waiting, and goes when the limit is raised', async () => {
  const { api } = town.house;
  await api.call('PUT', '/limits/other.example', {
    limits: [{ period: 'hour', quantity: 'sends', amount: 1 }],
    whenFull: 'hold',
    holdMost: 2,
  });
  const talk = await town.signedIn('bea@other.example');
  const reply = await send(
    talk,
    'bea@other.example',
    ['a@open.example', 'b@open.example', 'c@open.example', 'd@open.example'],
    'From: bea@other.example\r\n\r\nx\r\n',
  );
  expect(reply).toMatch(/^250/);
  const id = idOf(reply);
  expect(await send(talk, 'bea@other.example', 'e@open.example', 'From: bea@other.example\r\n\r\nx\r\n')).toMatch(
    /^452 4\.7\.28 .* and 2 recipients are already waiting for room/,
  );
  talk.end();
  const view = async () => (await api.call<JourneyView>('GET', `/journeys/${id}`)).body;
  expect((await view()).recipients.map((one) => one.held)).toEqual([null, 'limit', 'limit']);
  expect((await view()).entries.some((one) => one.event === 'over-limit')).toBe(true);
  await api.call('POST', '/limits/other.example/raises', { period: 'hour', amount: 10, until: Date.now() + 3_600_000, reason: 'test' });
  await expect.poll(async () => (await view()).recipients.map((one) => one.state)).toEqual(['relayed', 'relayed', 'relayed']);
  expect((await api.call<{ total: object }>('GET', '/ledger/other.example')).body.total).toMatchObject({ messages: 1, sends: 3 });
});
