import type { House } from './house.ts';
import { Talk } from './talk.ts';

/** What a stranger is told who has mail for somebody. */
export async function rcptReply(house: House, address: string): Promise<string> {
  const talk = await Talk.to(house.ports.smtp);
  await talk.say(null);
  await talk.say('EHLO mx.far.example');
  await talk.say('MAIL FROM:<li@far.example>');
  const reply = await talk.say(`RCPT TO:<${address}>`);
  talk.end();
  return reply;
}

/** Whether a password signs in to submission and to POP3. */
export async function signsIn(house: House, password: string, user = 'ana@shop.example'): Promise<[boolean, boolean]> {
  const smtp = await Talk.to(house.ports.submissions, { tls: true });
  await smtp.say(null);
  await smtp.say('EHLO phone.example');
  const submitted = await smtp.say(`AUTH PLAIN ${Buffer.from(`\0${user}\0${password}`).toString('base64')}`);
  smtp.end();
  const pop = await Talk.to(house.ports.pop3s, { tls: true });
  await pop.pop(null);
  await pop.pop(`USER ${user}`);
  const opened = await pop.pop(`PASS ${password}`);
  await pop.pop('QUIT');
  pop.end();
  return [submitted.startsWith('235'), opened.startsWith('+OK')];
}
