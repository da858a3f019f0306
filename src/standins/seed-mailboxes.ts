import { ANSWERED, FLAGGED, type Flags, SEEN } from '../core/mailbox/flags.ts';
import type { AppendedMessage } from '../core/mailbox/operations.ts';
import { encodedWords } from '../core/message/encoded-words.ts';
import { mailDate } from '../core/message/trace.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { shareMailbox } from '../service/directory/members.ts';
import { operate } from '../service/mailbox/operate.ts';
import { findMailbox } from '../store/mailboxes.ts';

const DAY = 24 * 3_600_000;

const FRIENDS = [
  ['Mar Soto', 'mar.soto@northpost.example'],
  ['Leo Quintana', 'leo@openbay.example'],
  ['Irene Vidal', 'irene.vidal@northpost.example'],
  ['Harina Molino', 'pedidos@molino-claro.example'],
  ['Vera Núñez', 'vera@slowtide.example'],
  ['Village office', 'office@villa-sal.example'],
] as const;
const SUBJECTS = [
  'Order for Saturday: twelve loaves',
  'Flour delivery moved to Tuesday',
  'Re: oven inspection',
  'Invoice of the month',
  'Bread for the village party',
  'Pan de maíz, ¿todavía?',
  'Photos of the new window',
  'Sourdough course: who comes?',
  'Re: opening hours at Christmas',
  'Thank you!',
];
const JUNK = [
  ['Prize office', 'prizes@lucky.example', 'You are the winner of today'],
  ['Pharmacy', 'deals@pills.example', 'Half price, only now'],
  ['Account team', 'security@olmo-bakery.example', 'Your mailbox will be closed'],
  ['Crypto friend', 'gold@coin.example', 'Double it in a week'],
] as const;
const LINES = [
  'Could you have them ready by nine? I send Pau with the van.',
  'The driver says that the road is closed, so it will be the afternoon.',
  'We have looked at the numbers again, and it comes to the same.',
  'If it rains, we meet under the arcade.',
  'The children liked the ones with anise best.',
  'Nothing is urgent; answer when the oven is cold.',
];

type Random = () => number;
const one = <T>(all: readonly T[], random: Random): T => all[Math.floor(random() * all.length)] as T;

/** A message as somebody might have written it, some with a page beside the text and an attachment. */
function written(from: readonly [string, string], to: string, subject: string, at: number, random: Random): Buffer {
  const id = Math.floor(random() * 1e12).toString(36);
  const text = `Hello,\r\n\r\n${one(LINES, random)}\r\n${one(LINES, random)}\r\n\r\n${from[0]}\r\n`;
  const head = [
    `Date: ${mailDate(at)}`,
    `From: ${encodedWords(from[0])} <${from[1]}>`,
    `To: <${to}>`,
    `Subject: ${encodedWords(subject)}`,
    `Message-ID: <${id}@${from[1].split('@')[1]}>`,
    'MIME-Version: 1.0',
  ];
  if (random() > 0.2)
    return Buffer.from([...head, 'Content-Type: text/plain; charset=utf-8', 'Content-Transfer-Encoding: 8bit', '', text].join('\r\n'));
  const scan = Buffer.from(Array.from({ length: 3000 }, () => Math.floor(random() * 256)))
    .toString('base64')
    .replace(/.{76}/g, '$&\r\n');
  return Buffer.from(
    [
      ...head,
      'Content-Type: multipart/mixed; boundary="=_part"',
      '',
      '--=_part',
      'Content-Type: text/plain; charset=utf-8',
      'Content-Transfer-Encoding: 8bit',
      '',
      text,
      '--=_part',
      'Content-Type: application/pdf; name="invoice.pdf"',
      'Content-Disposition: attachment; filename="invoice.pdf"',
      'Content-Transfer-Encoding: base64',
      '',
      scan,
      '--=_part--',
      '',
    ].join('\r\n'),
  );
}

/** Puts messages into mailboxes. */
function sower(context: ServiceContext, random: Random) {
  const fill = async (address: string, folder: string, messages: AppendedMessage[]): Promise<void> => {
    const [local = '', domain = ''] = address.split('@');
    const mailbox = findMailbox(context.db, local, domain);
    if (!mailbox) return;
    await operate(context, mailbox.id, { kind: 'create', name: folder, specialUse: null });
    messages.sort((first, second) => first.internalDate - second.internalDate);
    await operate(context, mailbox.id, { kind: 'append', to: folder, messages, instead: null });
  };
  const some = (count: number, from: number, to: number, make: (at: number) => Buffer, flags: (at: number) => number): AppendedMessage[] =>
    Array.from({ length: count }, () => {
      const at = Math.floor(from + random() * (to - from));
      const marks: Flags = { flags: flags(at), keywords: random() > 0.95 ? 'Orders' : '' };
      return { ...marks, internalDate: at, text: make(at) };
    });
  const friend = (to: string) => (at: number) => written(one(FRIENDS, random), to, one(SUBJECTS, random), at, random);
  const read = (): number => SEEN | (random() > 0.6 ? ANSWERED : 0) | (random() > 0.93 ? FLAGGED : 0);
  return { fill, some, friend, read };
}

/** Somebody's mail of some years, on the server that they had before: so many messages in the Inbox, and as many again in other folders. */
export async function seedOldMailbox(context: ServiceContext, address: string, name: string, inbox: number, random: Random): Promise<void> {
  const now = context.clock.now();
  const { fill, some, friend, read } = sower(context, random);
  const byOwner = (at: number): Buffer => written([name, address], one(FRIENDS, random)[1], one(SUBJECTS, random), at, random);
  await fill(
    address,
    'INBOX',
    some(inbox, now - 300 * DAY, now - DAY / 4, friend(address), (at) => (now - at > 5 * DAY ? read() : 0)),
  );
  await fill(
    address,
    'Sent',
    some(Math.round((inbox * 9) / 14), now - 300 * DAY, now - DAY / 4, byOwner, () => SEEN),
  );
  await fill(address, 'Obras/2025', some(Math.round((inbox * 6) / 14), now - 500 * DAY, now - 300 * DAY, friend(address), read));
}

/** Years of a bakery's mail, and a little of everybody else's; some of it junk. */
export async function seedMailboxes(context: ServiceContext, random: Random): Promise<void> {
  const now = context.clock.now();
  const { fill, some, friend, read } = sower(context, random);
  const ana = 'ana@olmobakery.example';
  for (const year of [2023, 2024, 2025])
    await fill(ana, `Archive/${year}`, some(120, Date.UTC(year, 0, 2), Date.UTC(year, 11, 30), friend(ana), read));
  await fill(
    ana,
    'INBOX',
    some(60, now - 60 * DAY, now - DAY / 4, friend(ana), (at) => (now - at > 2 * DAY ? read() : 0)),
  );
  await fill(
    ana,
    'Sent',
    some(
      40,
      now - 60 * DAY,
      now - DAY / 4,
      (at) => written(['Ana Olmo', ana], one(FRIENDS, random)[1], one(SUBJECTS, random), at, random),
      () => SEEN,
    ),
  );
  const junk = (to: string) => (at: number) => {
    const [name, address, subject] = one(JUNK, random);
    return written([name, address], to, subject, at, random);
  };
  await fill(
    ana,
    'Junk',
    some(9, now - 20 * DAY, now - DAY, junk(ana), () => 0),
  );
  for (const address of ['orders@olmobakery.example', 'nico@rutaverde.example', 'visit@marisma-museum.example', 'pau@tallernuno.example']) {
    await fill(
      address,
      'INBOX',
      some(12, now - 30 * DAY, now - DAY / 4, friend(address), (at) => (now - at > 3 * DAY ? SEEN : 0)),
    );
    await fill(
      address,
      'Junk',
      some(3, now - 20 * DAY, now - DAY, junk(address), () => 0),
    );
  }
  await shareMailbox(context, 'orders@olmobakery.example', { member: ana, as: 'writer', maySend: true });
}
