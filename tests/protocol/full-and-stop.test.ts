import { afterEach, beforeEach, expect, it } from 'vitest';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeEach(async () => {
  house = await openHouse({ maxMib: 4 });
  await house.provide('shop.example', ['ana', 'li']);
});
afterEach(() => house.close());

async function bring(lines: string[]): Promise<{ talk: Talk; replies: string[] }> {
  const talk = await Talk.to(house.ports.smtp);
  const replies = [await talk.say(null)];
  for (const line of lines) replies.push(await talk.say(line));
  return { talk, replies };
}
const begin = ['EHLO x.example', 'MAIL FROM:<a@out.example>'];

it('a full mailbox is told so to the sender, others of the message still get it, and room made is room again', async () => {
  await house.api.call('PATCH', '/mailboxes/ana@shop.example', { quotaMessages: 1 });
  const big = `From: a@out.example\r\nSubject: big\r\n\r\n${`${'x'.repeat(998)}\r\n`.repeat(1000)}.`;
  const first = await bring([...begin, 'RCPT TO:<ana@shop.example>', 'DATA', big]);
  expect(first.replies.at(-1)).toMatch(/^250 2\.6\.0/);
  const second = await bring([
    ...begin,
    'RCPT TO:<ana@shop.example>',
    'RCPT TO:<li@shop.example>',
    'DATA',
    'From: a@out.example\r\nSubject: small\r\n\r\nx\r\n.',
  ]);
  expect(second.replies.slice(3).map((line) => line.slice(0, 9))).toEqual(['452 4.2.2', '250 2.1.5', '354 Send ', '250 2.6.0']);
  expect(second.replies[3]).toContain('The mailbox ana@shop.example has no room for this message');
  const reader = await Talk.to(house.ports.pop3s, { tls: true });
  await reader.pop(null);
  for (const line of ['USER ana@shop.example', `PASS ${PASSWORD}`, 'DELE 1', 'QUIT']) expect(await reader.pop(line)).toMatch(/^\+OK/);
  const third = await bring([...begin, 'RCPT TO:<ana@shop.example>']);
  expect(third.replies.at(-1)).toMatch(/^250/);
  const { body } = await house.api.call<{ usedBytes: number; messages: number }>('GET', '/mailboxes/ana@shop.example');
  expect(body).toMatchObject({ usedBytes: 0, messages: 0 });
  for (const { talk } of [first, second, third]) talk.end();
});

it('stopping tells open conversations, finishes a message under way, and takes no new ones', async () => {
  const idle = await bring(['EHLO x.example']);
  const busy = await bring([...begin, 'RCPT TO:<ana@shop.example>', 'DATA']);
  busy.talk.write('From: a@out.example\r\nSubject: last\r\n\r\nhalf');
  const stopped = house.service.stop();
  expect(await idle.talk.closed()).toBe('421 4.3.2 mail.host.example is stopping; try again soon\r\n');
  await expect(Talk.to(house.ports.smtp)).rejects.toThrow('ECONNREFUSED');
  busy.talk.write(' of it\r\n.\r\n');
  expect(await busy.talk.closed()).toMatch(/^250 2\.6\.0 Accepted as \w+\r\n421 4\.3\.2 /);
  await stopped;
  house.close = async () => house.dns.close();
});

it.each([
  ['IPv4 address', () => 'PROXY TCP4 198.51.100.5 192.0.2.25 50000 25\r\n', 'PROXY TCP4 198.51.100.6 192.0.2.25 50000 25\r\n'],
  [
    'IPv6 network of 64 bits',
    (number: number) => `PROXY TCP6 2001:db8:5:5:${number.toString(16)}::1 2001:db8:25::25 50000 25\r\n`,
    'PROXY TCP6 2001:db8:5:6::1 2001:db8:25::25 50000 25\r\n',
  ],
])('one %s may hold so many connections and no more; they count again when they end, also after STARTTLS', async (_what, from, other) => {
  const talks = await Promise.all(Array.from({ length: 200 }, (_none, number) => Talk.to(house.ports.claimed, { first: from(number) })));
  const greetings = await Promise.all(talks.map((talk) => talk.say(null)));
  expect(greetings.every((line) => line.startsWith('220'))).toBe(true);
  const refused = await Talk.to(house.ports.claimed, { first: from(200) });
  expect(await refused.closed()).toMatch(/^421 4\.7\.0 /);
  const stranger = await Talk.to(house.ports.claimed, { first: other });
  expect(await stranger.say(null)).toMatch(/^220/);
  const [last] = talks;
  await last?.say('EHLO x.example');
  await last?.say('STARTTLS');
  await last?.startTls();
  await last?.say('QUIT');
  await last?.closed();
  for (let greeting = '421'; greeting.startsWith('421'); ) {
    const again = await Talk.to(house.ports.claimed, { first: from(201) });
    greeting = await again.say(null);
    again.end();
  }
  for (const talk of [...talks, stranger]) talk.end();
});
