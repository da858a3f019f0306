import { once } from 'node:events';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type Server, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createServer as createTlsServer, type Server as TlsServer } from 'node:tls';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rehearsal, RehearsalHead } from '../../src/api/rehearsal-schemas.ts';
import { reverseName } from '../../src/core/records/reverse-name.ts';
import { greetingExchanges, recipientExchanges } from '../../src/core/rehearsal/scripts.ts';
import { rehearsalLine } from '../../src/net/rehearsal-line.ts';
import { SmtpClient } from '../../src/net/smtp-client.ts';
import type { RehearsalFault } from '../../src/service/rehearsal/rehearsal-door.ts';
import { CertificateMaker } from '../../src/standins/certificate-maker.ts';
import { freePort } from '../../src/standins/free-port.ts';
import { Wall } from '../../src/standins/wall.ts';
import { HOST, type House, openHouse } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

const PUBLIC = { smtp: 25, imaps: 993, imap: 143, pop3s: 995, pop3: 110, submissions: 465, submission: 587 } as const;
const folder = mkdtempSync(join(tmpdir(), 'tenedor-rehearsals-'));
let house: House;
/** What somebody is told who has the name of the house, and not its key. */
const overheard: string[] = [];
let stranger: TlsServer;
/** What a server elsewhere is told. */
const far: string[] = [];
let farOffersTls = false;
let elsewhere: Server;
beforeAll(async () => {
  const maker = await CertificateMaker.make('Test', { days: 90, now: Date.now });
  const forged = await maker.give(['mail.shop.example'], null);
  stranger = createTlsServer({ cert: forged.pem, key: forged.key as string }, (socket) => {
    socket.on('error', () => {});
    socket.on('data', (bytes) => overheard.push(String(bytes)));
    socket.write('* OK ready\r\n');
  }).listen(0, '127.0.0.1');
  await once(stranger, 'listening');
  const { port: strange } = stranger.address() as { port: number };
  writeFileSync(join(folder, 'roots.pem'), maker.rootPem);
  elsewhere = createServer((socket) => {
    socket.on('error', () => {});
    socket.write('220 mx.far.example\r\n');
    socket.on('data', (bytes) => {
      const line = String(bytes).trim();
      far.push(line);
      const reply =
        line === 'DATA'
          ? '354 Go on'
          : line.includes('nobody')
            ? '550 5.1.1 No such person'
            : line.includes('moved@')
              ? '251 2.1.5 It goes on from here'
              : line === 'STARTTLS'
                ? '454 4.7.0 Not now'
                : line.startsWith('EHLO') && farOffersTls
                  ? '250-mx.far.example\r\n250 STARTTLS'
                  : '250 Fine';
      socket.write(`${reply}\r\n`);
    });
  }).listen(0, '127.0.0.1');
  await once(elsewhere, 'listening');
  const { port: farPort } = elsewhere.address() as { port: number };
  const closed = await freePort();
  const more: string[] = [`[[dial]]\nto = "198.51.100.50:25"\nthrough = "127.0.0.1:${farPort}"`];
  for (const [service, port] of Object.entries(PUBLIC)) {
    const own = await freePort();
    more.push(`[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${own}`);
    for (const address of HOST.addresses)
      more.push(`[[dial]]\nto = "${address.includes(':') ? `[${address}]` : address}:${port}"\nthrough = "127.0.0.1:${own}"`);
    more.push(`[[dial]]\nto = "198.51.100.40:${port}"\nthrough = "127.0.0.1:${closed}"`);
    more.push(`[[dial]]\nto = "198.51.100.41:${port}"\nthrough = "127.0.0.1:${service.endsWith('s') ? strange : closed}"`);
  }
  house = await openHouse({
    mail: `greet_after_ms = 0\ntrusted_roots = "${join(folder, 'roots.pem')}"`,
    processes: 1,
    more: more.join('\n'),
  });
  await house.provide('shop.example', ['ana']);
  const { pem, key } = await maker.give(['mail.shop.example'], null);
  await house.api.call('POST', '/certificates', { certificate: pem, key });
  for (const address of HOST.addresses)
    house.dns.publish({ name: 'mail.shop.example', type: address.includes(':') ? 'AAAA' : 'A', value: address });
});
afterAll(async () => {
  await house.close();
  stranger.close();
  elsewhere.close();
  rmSync(folder, { recursive: true });
});

const rehearse = async (address = 'ana@shop.example'): Promise<Rehearsal> =>
  (await house.api.call<Rehearsal>('POST', '/rehearsals/signin', { address })).body;
const states = ({ ways }: Rehearsal): string[][] => ways.map((way) => way.steps.map((step) => step.state));

describe('signing in as mail programs do', () => {
  it('comes through on every way, without anybody’s password; nothing is counted, sent or left open', async () => {
    const signIns = async () =>
      JSON.stringify((await house.service.context.metrics.registry.getMetricsAsJSON()).find((one) => one.name.includes('sign_in')));
    const before = await signIns();
    const made = await rehearse();
    expect(made.ways.flatMap((way) => way.steps.filter((step) => step.state !== 'done'))).toEqual([]);
    expect(made).toMatchObject({ isGood: true, subject: 'ana@shop.example', beforeAt: null });
    expect(made.ways.map((way) => way.name)).toEqual([
      'IMAP 993, TLS',
      'IMAP 143, STARTTLS',
      'POP3 995, TLS',
      'POP3 110, STARTTLS',
      'SMTP 465, TLS',
      'SMTP 587, STARTTLS',
    ]);
    const [imap] = made.ways;
    expect(imap?.steps.map((step) => step.key)).toEqual(['name', 'port', 'tls', 'certificate', 'sign-in', 'folders']);
    expect(imap?.steps[0]?.seen).toBe(HOST.addresses.join(', '));
    expect(imap?.steps.at(-1)?.said).toContainEqual({ by: 'us', text: 't3 LIST "" "*"' });
    // The pass is shown to nobody, in no coding.
    const said = JSON.stringify(made);
    expect(said).toContain('AUTHENTICATE PLAIN (the pass)');
    expect(said).not.toMatch(/PLAIN [A-Za-z0-9+/]{20,}/);
    expect(await signIns()).toBe(before);
    expect(await house.api.list('/journeys')).toEqual([]);
    expect(await house.api.list('/sign-in-troubles')).toEqual([]);
    await expect
      .poll(async () => (await house.api.call<{ sessions: unknown[] }>('GET', '/mailboxes/ana@shop.example/contents')).body.sessions)
      .toEqual([]);
  });

  it('a pass opens its own mailbox, for a minute, and nothing else', async () => {
    const { passes, clock, db } = house.service.context;
    const id = db.one<{ id: number }>("SELECT id FROM mailbox WHERE local = 'ana'")?.id ?? 0;
    const now = clock.steady();
    const pass = passes.give(id, now);
    expect([passes.opens(pass, id, now + 59_000), passes.opens(pass, id, now + 60_000), passes.opens(pass, id + 1, now)]).toEqual([
      true,
      false,
      false,
    ]);
    passes.take(pass);
    const talk = await Talk.to(house.ports.submissions, { tls: true });
    await talk.say(null);
    await talk.say('EHLO phone.example');
    const tried = (password: string) => talk.say(`AUTH PLAIN ${Buffer.from(`\0ana@shop.example\0${password}`).toString('base64')}`);
    expect(await tried(pass)).toMatch(/^535 /);
    expect(await tried('pass-')).toMatch(/^535 /);
    talk.end();
  });

  it('says which step fails, why, and what to do; what comes after it is not reached', async () => {
    // One of its addresses leads to a machine where nothing listens: programs that take the other get in.
    house.dns.publish({ name: 'mail.shop.example', type: 'A', value: '198.51.100.40' });
    const astray = await rehearse();
    expect(astray.isGood).toBe(false);
    expect(states(astray)[0]).toEqual(['done', 'failed', 'done', 'done', 'done', 'done']);
    expect(astray.ways[0]?.steps[1]).toMatchObject({
      before: 'done',
      seen: 'At 198.51.100.40: Connection refused: nothing listens on that port.',
      action: 'Take it out of DNS, or have it lead here: it is none of this host’s addresses.',
    });
    // Somebody else’s machine answers, with a certificate that any program would take: it is told nothing.
    house.dns.withdraw('mail.shop.example');
    house.dns.publish({ name: 'mail.shop.example', type: 'A', value: '198.51.100.41' });
    const taken = await rehearse();
    expect(states(taken)[0]).toEqual(['done', 'done', 'done', 'failed', 'not-reached', 'not-reached']);
    expect(taken.ways[0]?.steps[3]?.seen).toMatch(/^Another server answers/);
    expect(overheard.join('')).not.toMatch(/AUTH/);
    house.dns.withdraw('mail.shop.example');
    const nowhere = await rehearse();
    expect(states(nowhere)).toEqual(nowhere.ways.map(() => ['failed', ...Array(5).fill('not-reached')]));
    expect(nowhere.ways[0]?.steps[0]?.seen).toBe('mail.shop.example has no address in DNS.');
    // On the host’s name, whose certificate nobody takes: the rest is looked at all the same.
    house.dns.publish({ name: HOST.name, type: 'A', value: HOST.addresses[0] as string });
    await house.api.call('PATCH', '/domains/shop.example', { mailName: 'host' });
    const own = await rehearse();
    expect(states(own)[0]).toEqual(['done', 'done', 'done', 'failed', 'done', 'done']);
    expect(own.ways[0]?.steps[3]?.seen).toMatch(/^It is self-signed/);
  });

  it('is kept, listed, and shown beside the one before', async () => {
    const list = await house.api.list<RehearsalHead>('/rehearsals');
    expect(list.map((one) => one.isGood)).toEqual([false, false, false, false, true]);
    const shown = await house.api.call<Rehearsal>('GET', `/rehearsals/${list[3]?.id}`);
    expect(shown.body.ways[0]?.steps[1]).toMatchObject({ state: 'failed', before: 'done' });
    for (const id of ['0', 'x', '99999', '-1']) expect((await house.api.call('GET', `/rehearsals/${id}`)).status, id).toBe(404);
    expect((await house.api.call('POST', '/rehearsals/signin', { address: 'nobody@shop.example' })).status).toBe(404);
    expect((await house.api.call('POST', '/rehearsals/signin', { address: '' })).status).toBe(422);
  });
});

describe('bringing mail as another server does', () => {
  const receive = async (address: string): Promise<Rehearsal> =>
    (await house.api.call<Rehearsal>('POST', '/rehearsals/receive', { address })).body;
  beforeAll(() => {
    house.dns.publish({ name: 'shop.example', type: 'MX', value: `10 ${HOST.name}` });
    house.dns.publish({ name: reverseName(HOST.addresses[0] as string), type: 'PTR', value: HOST.name });
  });

  it('comes as far as the recipient at each host, has strangers refused, and leaves nothing in the journal', async () => {
    const made = await receive('Ana@shop.example');
    expect(made.ways.flatMap((way) => way.steps.filter((step) => step.state !== 'done'))).toEqual([]);
    expect(made).toMatchObject({ kind: 'receive', subject: 'ana@shop.example', isGood: true });
    expect(made.ways.map((way) => [way.name, way.steps.map((step) => step.key)])).toEqual([
      ['MX records', ['mx']],
      [HOST.name, ['name', 'port', 'greeting', 'reverse', 'tls', 'certificate', 'recipient', 'relay']],
    ]);
    const said = made.ways[1]?.steps.at(-1)?.said.filter((one) => one.by === 'us' && one.text.startsWith('RCPT'));
    expect(said).toHaveLength(5);
    // A catch-all takes what only looks like an address elsewhere: that is no relay.
    await house.api.call('PATCH', '/domains/shop.example', { catchAll: 'ana@shop.example' });
    expect((await receive('anybody@shop.example')).isGood).toBe(true);
    await house.api.call('PATCH', '/domains/shop.example', { catchAll: null });
    const unknown = await receive('nobody@shop.example');
    expect(states(unknown)[1]).toEqual(['done', 'done', 'done', 'done', 'done', 'done', 'failed', 'done']);
    expect(unknown.ways[1]?.steps[6]?.seen).toBe('It was answered: 550 5.1.1 There is no mailbox nobody@shop.example');
    expect(await house.api.list('/journeys')).toEqual([]);
    // Who greets so and is not we is journalled as ever.
    const talk = await Talk.to(house.ports.smtp);
    await talk.say(null);
    await talk.say(`EHLO pass-${'0'.repeat(40)}.rehearsal.invalid`);
    await talk.say('MAIL FROM:<>');
    expect(await talk.say('RCPT TO:<nobody@shop.example>')).toMatch(/^550 /);
    talk.end();
    await expect.poll(async () => (await house.api.list('/journeys')).length).toBe(1);
  });

  it('says that a machine may send for strangers, that an address leads to no name, and that nothing is published', async () => {
    const relay = async () => (await house.api.call<Rehearsal>('POST', '/rehearsals/relay')).body;
    const closed = await relay();
    expect(closed.ways.flatMap((way) => way.steps.filter((step) => step.state !== 'done'))).toEqual([]);
    expect(closed).toMatchObject({ kind: 'relay', subject: HOST.name, isGood: true });
    expect(closed.ways.map((way) => [way.name, way.steps.map((step) => step.key)])).toEqual(
      HOST.addresses.map((address) => [`${HOST.name} [${address}]`, ['port', 'greeting', 'tls', 'certificate', 'relay']]),
    );
    await house.api.call('POST', '/networks', { cidr: '127.0.0.1/32', note: 'too much trust', maySubmit: true, domains: ['shop.example'] });
    expect(states(await relay())[0]).toEqual(['done', 'done', 'done', 'done', 'failed']);
    const open = await receive('ana@shop.example');
    expect(open.ways[1]?.steps.at(-1)).toMatchObject({
      key: 'relay',
      state: 'failed',
      seen: expect.stringMatching(/^It was answered: 250 /),
    });
    expect((await house.api.call('POST', '/networks/remove', { cidr: '127.0.0.1/32' })).status).toBe(200);
    house.dns.withdraw(reverseName(HOST.addresses[0] as string));
    const nameless = await receive('ana@shop.example');
    expect(nameless.ways[1]?.steps[3]).toMatchObject({ state: 'failed', seen: '192.0.2.25 leads to no name.' });
    expect(nameless.ways[1]?.steps.at(-1)).toMatchObject({ state: 'done' });
    house.dns.withdraw('shop.example', 'MX');
    const nowhere = await receive('ana@shop.example');
    expect(nowhere.ways).toMatchObject([{ steps: [{ state: 'failed', seen: 'shop.example has no MX record that takes mail.' }] }]);
    expect((await house.api.call('POST', '/rehearsals/receive', { address: 'x@far.example' })).status).toBe(404);
    expect((await house.api.call('POST', '/rehearsals/receive', { address: 'none' })).status).toBe(422);
  });
});

describe('sending to somebody', () => {
  const send = async (from: string, to: string) => house.api.call<Rehearsal>('POST', '/rehearsals/send', { from, to });

  it('says what is decided here, and what the other server says; nothing is charged or sent', async () => {
    const here = (await send('ana@shop.example', 'ana@shop.example')).body;
    expect(here).toMatchObject({ kind: 'send', subject: 'ana@shop.example', recipient: 'ana@shop.example', isGood: true });
    expect(here.ways.map((way) => way.name)).toEqual(['Decided here']);
    house.dns.publish({ name: 'far.example', type: 'MX', value: '10 mx.far.example' });
    house.dns.publish({ name: 'mx.far.example', type: 'A', value: '198.51.100.50' });
    const taken = (await send('ana@shop.example', 'leo@far.example')).body;
    expect(states(taken)[1]).toEqual(['done', 'done', 'done']);
    expect(far).toEqual([`EHLO ${HOST.name}`, 'MAIL FROM:<ana@shop.example>', 'RCPT TO:<leo@far.example>', 'RSET']);
    const refused = (await send('ana@shop.example', 'nobody@far.example')).body;
    expect(refused.ways[1]?.steps.at(-1)).toMatchObject({ state: 'failed', seen: 'It was answered: 550 5.1.1 No such person' });
    // What a message would do: it is taken with 251, too, and goes in clear where TLS is refused for now.
    farOffersTls = true;
    const moved = (await send('ana@shop.example', 'moved@far.example')).body;
    farOffersTls = false;
    expect(moved.isGood).toBe(true);
    expect(moved.ways[1]?.steps.find((step) => step.key === 'tls')?.seen).toContain('454 4.7.0 Not now');
    const wrong = (await send('ana@shop.example', 'nobody@shop.example')).body;
    expect(wrong.ways).toHaveLength(1);
    expect(wrong.ways[0]?.steps.at(-1)).toMatchObject({ state: 'failed', seen: '550 5.1.1 There is no mailbox nobody@shop.example' });
    expect(house.service.context.db.all('SELECT 1 FROM ledger')).toEqual([]);
    expect((await send('nobody@shop.example', 'leo@far.example')).status).toBe(404);
    expect((await send('ana@shop.example', 'nobody')).status).toBe(422);
  });
});

describe('with a real message', () => {
  const post = async (kind: string, values: object) =>
    (await house.api.call<Rehearsal>('POST', `/rehearsals/${kind}`, { ...values, message: true })).body;
  const left = (): unknown => house.service.context.db.one('SELECT count(*) AS messages FROM message');
  // The host’s own certificate is signed by itself.
  const failed = ({ ways }: Rehearsal) =>
    ways.flatMap((way) => way.steps.filter((step) => step.state !== 'done' && step.key !== 'certificate'));

  it('it arrives, and nothing of it is left or charged; what leaves is followed to its outcome, and is charged', async () => {
    for (const address of HOST.addresses) {
      house.dns.publish({ name: 'mail.shop.example', type: address.includes(':') ? 'AAAA' : 'A', value: address });
      house.dns.publish({ name: reverseName(address), type: 'PTR', value: HOST.name });
    }
    house.dns.publish({ name: 'shop.example', type: 'MX', value: `10 ${HOST.name}` });
    const { db } = house.service.context;
    const charges = (): unknown => db.one('SELECT count(*) AS charges FROM ledger');
    const before = left();
    const itself = await post('signin', { address: 'ana@shop.example' });
    expect(failed(itself)).toEqual([]);
    expect(itself.ways.at(-1)).toMatchObject({
      name: 'A message to itself',
      steps: [{ key: 'submit' }, { key: 'arrive' }, { key: 'remove' }],
    });
    const brought = await post('receive', { address: 'ana@shop.example' });
    expect(brought.ways.at(-1)).toMatchObject({ name: 'The message', steps: [{ key: 'outcome' }, { key: 'remove' }] });
    expect(brought.ways.at(-1)?.steps[0]?.seen).toMatch(/^ana@shop.example: delivered \(tenedor journey [a-z0-9]{12}\)$/);
    expect(failed(brought)).toEqual([]);
    expect([left(), charges()]).toEqual([before, { charges: 0 }]);
    const sent = await post('send', { from: 'ana@shop.example', to: 'leo@far.example' });
    expect(failed(sent)).toEqual([]);
    expect(sent.ways.slice(-2).map((way) => way.steps.map((step) => step.key))).toEqual([['submit'], ['outcome']]);
    expect(sent.ways.at(-1)?.steps[0]?.seen).toMatch(/^leo@far.example: relayed, 250 Fine/);
    expect(charges()).toEqual({ charges: 1 });
    expect(far.some((one) => one.includes('Subject: A rehearsal'))).toBe(true);
    // Where the steps fail, none is sent.
    const refused = await post('send', { from: 'ana@shop.example', to: 'nobody@far.example' });
    expect(refused.ways.at(-1)?.name).toBe('mx.far.example [198.51.100.50]');
    expect(charges()).toEqual({ charges: 1 });
  });
});

describe('a server that does not behave', () => {
  const servers: Server[] = [];
  afterAll(() => {
    for (const one of servers) one.close();
  });
  const open = (serve: (socket: Socket) => void): Promise<number> =>
    new Promise((resolve) => {
      const server = createServer(serve).listen(0, '127.0.0.1', () => resolve((server.address() as { port: number }).port));
      servers.push(server);
    });
  const line = async (port: number) => rehearsalLine((address, to) => ({ address, port: to, proxy: false }))('127.0.0.1', port);
  const greeting = [{ expect: /^220 .*\r\n/m, say: null }];

  it('says no, hangs up, or speaks no TLS: each is told apart', async () => {
    const busy = await line(await open((socket) => socket.write('421 4.3.2 Too busy\r\n')));
    await expect(busy.talk(greeting)).rejects.toMatchObject({ kind: 'answer', what: '421 4.3.2 Too busy' });
    expect(busy.said()).toEqual([{ by: 'them', text: '421 4.3.2 Too busy' }]);
    const rude = await line(await open((socket) => socket.destroy()));
    await expect(rude.talk(greeting)).rejects.toMatchObject({ kind: 'connection' });
    const plain = await line(await open((socket) => socket.on('data', () => socket.end('220 mail.far.example\r\n'))));
    await expect(plain.startTls('mail.far.example')).rejects.toMatchObject({ kind: 'tls' });
    await expect(line(await freePort())).rejects.toMatchObject({ kind: 'connection', what: 'ECONNREFUSED' });
    // A firewall that drops is no closed port; nor is one that takes the connection and says nothing.
    const wall = await Wall.stand();
    const patient = (port: number) => rehearsalLine((address) => ({ address, port, proxy: false }), [], 300)('127.0.0.1', 25);
    await expect(patient(wall.port)).rejects.toMatchObject({ kind: 'connection', what: 'ETIMEDOUT' });
    wall.close();
    const mute = await patient(await open(() => {}));
    await expect(mute.talk(greeting)).rejects.toMatchObject({ kind: 'connection', what: 'ETIMEDOUT' });
    mute.close();
    // However much it says, so much is kept.
    const chatty = await line(await open((socket) => socket.end('x'.repeat(2_000_000))));
    await expect(chatty.talk(greeting)).rejects.toMatchObject({ kind: 'answer' });
    expect(JSON.stringify(chatty.said()).length).toBeLessThan(5000);
    for (const one of [busy, rude, plain, chatty]) one.close();
  });

  it('what ends a conversation when a message is sent ends a rehearsal, with the same words: replies too many, too long, or none', async () => {
    const many = '250-more\r\n'.repeat(300);
    for (const [command, said] of [
      ['', '220 one\r\n220 two\r\n'],
      ['', 'hello\r\n'],
      ['', `220 ${'x'.repeat(70_000)}`],
      ['EHLO', '250 one\r\n250 two\r\n'],
      ['EHLO', many],
      ['EHLO', `${'250-more\r\n'.repeat(150)}250 that is all\r\n`],
      ['MAIL', '354 go on\r\n'],
      ['MAIL', '250 one\r\n550 two\r\n'],
      ['RCPT', '220 what\r\n'],
      ['RCPT', '250 one\r\n250 tw'],
      ['RCPT', '99 bottles\r\n'],
    ] as const) {
      const port = await open((socket) => {
        socket.write(command === '' ? said : '220 mx.far.example\r\n');
        socket.on('data', (bytes) => socket.write(String(bytes).startsWith(command) && command !== '' ? said : '250 fine\r\n'));
      });
      const client = new SmtpClient({ hostName: 'a.example', ownAddresses: [], dial: [], trustedRoots: null, waits: { replyMs: 2000 } });
      const host = { name: 'mx.far.example', address: '127.0.0.1', port, tls: 'none' as const, verify: false };
      const recipients = [{ address: 'leo@far.example', notify: null, original: null }];
      const sent = await client.send(
        { ...host, credentials: null, sourceIpv4: null, sourceIpv6: null },
        { sender: null, recipients, content: null, smtputf8: false, returnContent: null, envelopeId: null },
      );
      client.close();
      const talk = await line(port);
      const what = await talk.talk([...greetingExchanges('a.example'), ...recipientExchanges('leo@far.example', null)]).then(
        () => null,
        (error: RehearsalFault) => error.what,
      );
      talk.close();
      expect([command, said.slice(0, 20), what]).toEqual([command, said.slice(0, 20), sent.kind === 'unreachable' ? sent.reason : null]);
    }
  });
});
