import { afterAll, beforeAll, expect, it } from 'vitest';
import { Followed } from '../../src/core/followed.ts';
import { heard as heardCommand } from '../../src/core/imap/heard.ts';
import { PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';
import { idOf, openTown, RELAY, send, type Town } from '../support/town.ts';

const following = (text: string): Followed => {
  const read = Followed.parse(text);
  if (read.kind === 'wrong') throw new Error(read.reason);
  return read.followed;
};

let town: Town;
beforeAll(async () => {
  town = await openTown({ followed: following('smtp@203.0.113.20, POP3,delivery') });
  await town.house.provide('shop.example', ['ana']);
});
afterAll(() => town.close());

/** What was heard, conversation by conversation: `C: NOOP`. */
const heard = (kind: string): string[][] => {
  const all = new Map<number, string[]>();
  for (const one of town.house.log.map((line) => JSON.parse(line)))
    if (one.followed === kind)
      all.set(one.conversation, [...(all.get(one.conversation) ?? []), `${one.says === 'client' ? 'C' : 'S'}: ${one.msg}`]);
  return [...all.values()];
};
const hidden = (...secrets: string[]): void => {
  const whole = town.house.log.join('');
  for (const secret of secrets)
    for (const form of [secret, Buffer.from(secret).toString('base64').replace(/=+$/, '')]) expect(whole).not.toContain(form);
};

it('who brings mail is heard from the greeting to QUIT, and nobody else', async () => {
  for (const address of ['203.0.113.20', '198.51.100.9']) {
    const talk = await town.from(address);
    await talk.say('EHLO mx.far.example');
    expect(await send(talk, 'li@far.example', 'ana@shop.example', 'From: li@far.example\r\n\r\nthe text itself\r\n')).toMatch(/^250/);
    // What a password would stand in is hidden wherever it is tried.
    await talk.say(`AUTH plain ${Buffer.from(`\0ana\0${PASSWORD}`).toString('base64')}`);
    // So is the answer to an exchange that was refused, which comes as a line of its own.
    await talk.say(Buffer.from(`\0ana\0${PASSWORD}`).toString('base64'));
    await talk.say(PASSWORD);
    await talk.say('QUIT');
  }
  const [only, ...others] = heard('smtp');
  expect(others).toEqual([]);
  // The journey of its message names the conversation as the log does.
  const { db } = town.house.service.context;
  const [steps] = db.all<{ data: string }>("SELECT data FROM journal WHERE event = 'steps' AND data LIKE '%203.0.113.20%'");
  const [line] = town.house.log.map((one) => JSON.parse(one)).filter((one) => one.followed === 'smtp');
  expect(line?.conversation).toMatch(/^[a-z2-9]{8}$/);
  expect(steps?.data).toContain(`"conversation":"${line?.conversation}"`);
  expect(only?.[0]).toMatch(/^S: 220 /);
  expect(only).toEqual(expect.arrayContaining(['C: MAIL FROM:<li@far.example>', 'C: AUTH plain (hidden)', 'C: QUIT']));
  const text = only?.findIndex((line) => line.startsWith('C: (a text of ')) ?? -1;
  expect(only?.[text + 1]).toMatch(/^S: 250 /);
  hidden(PASSWORD, 'the text itself');
});

it('mail that leaves is heard with the other server’s replies; its password is not', async () => {
  await town.house.api.call('POST', '/outlets', {
    name: 'relay',
    host: RELAY.name,
    port: 587,
    user: RELAY.user,
    password: RELAY.password,
    domains: ['shop.example'],
    position: 10,
  });
  const talk = await town.signedIn('ana@shop.example');
  const id = idOf(await send(talk, 'ana@shop.example', 'leo@open.example'));
  await town.attempted(id);
  talk.end();
  const [only] = heard('delivery');
  expect(only).toEqual(expect.arrayContaining(['C: STARTTLS', 'C: AUTH PLAIN (hidden)', 'C: RCPT TO:<leo@open.example>']));
  expect(only?.some((line) => /^C: \(a text of \d+ octets\)$/.test(line))).toBe(true);
  hidden(PASSWORD, RELAY.password, `\0${RELAY.user}\0${RELAY.password}`);
});

it('who fetches mail is heard without passwords, however they are said', async () => {
  const talk = await Talk.to(town.house.ports.pop3s, { tls: true });
  await talk.pop(null);
  await talk.pop('AUTH PLAIN');
  await talk.pop(Buffer.from(`\0ana@shop.example\0${PASSWORD} and more`).toString('base64'));
  await talk.pop('USER ana@shop.example');
  await talk.pop(`pass ${PASSWORD}`);
  await talk.pop('QUIT');
  talk.end();
  expect(heard('pop3')[0]).toEqual(
    expect.arrayContaining(['C: AUTH PLAIN', 'C: (hidden)', 'C: USER ana@shop.example', 'C: pass (hidden)', 'C: QUIT']),
  );
  hidden(PASSWORD);
});

it.each(['stmp', 'smtp,', 'smtp@', '@203.0.113.20', ' ', 'delivery@MX.Shop.Example'])('%j is read', (text) => {
  const read = Followed.parse(text);
  const isRight = ['smtp,', ' ', 'delivery@MX.Shop.Example'].includes(text);
  expect(read.kind).toBe(isRight ? 'ok' : 'wrong');
  if (read.kind === 'wrong') expect(read.reason).toContain('smtp, pop3, imap, delivery');
});

it('a command without its tag, and what is no command, is not heard as it was written (IMAP)', () => {
  expect(heardCommand({ tag: 'LOGIN', name: 'ANA', pieces: [` ${PASSWORD}`] }, false)).toBe('(not a command)');
  expect(heardCommand({ tag: 'a', name: 'LOGIN', pieces: [` ana ${PASSWORD}`] }, true)).toBe('a LOGIN (hidden)');
  expect(heardCommand({ tag: 'a', name: 'NOOP', pieces: [''] }, true)).toBe('a NOOP');
});
