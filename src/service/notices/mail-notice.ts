import { parseAddress } from '../../core/address/mailbox-address.ts';
import { encodedWords } from '../../core/message/encoded-words.ts';
import { mailDate } from '../../core/message/trace.ts';
import { acceptOwnMessage } from '../acceptance/own-message.ts';
import { route } from '../acceptance/routing.ts';
import { newJourneyId } from '../base/secrets.ts';
import type { NoticesDeps } from './deps.ts';

export interface MailNotice {
  to: string;
  subject: string;
  lines: readonly string[];
  /** The domain here that it is about, if any. */
  domain: string | null;
}

/** Writes to somebody in the name of this host; resolves with the journey's id, or null where the address leads nowhere. */
export async function mailNotice(context: NoticesDeps, { to, subject, lines, domain }: MailNotice): Promise<string | null> {
  const { host, clock } = context;
  const parsed = parseAddress(to);
  const routing = parsed.kind === 'ok' ? route(context, parsed.address) : null;
  if (routing?.kind !== 'ok') return null;
  const at = clock.now();
  const id = newJourneyId(at);
  const text =
    `Date: ${mailDate(at)}\r\nFrom: Mail service <postmaster@${host.name}>\r\nTo: <${to}>\r\nSubject: ${encodedWords(subject)}\r\n` +
    `Message-ID: <${id}@${host.name}>\r\nAuto-Submitted: auto-generated\r\nMIME-Version: 1.0\r\n` +
    `Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n${lines.join('\r\n')}\r\n`;
  await acceptOwnMessage(context, {
    id,
    at,
    to,
    domain,
    subject,
    content: Buffer.from(text, 'utf8'),
    destinations: routing.destinations,
    step: { at, event: 'notice', data: { to, subject } },
  });
  return id;
}
