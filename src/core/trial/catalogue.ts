import type { MessageSubject, Verdict } from '../vocabulary.ts';

/** What the subjects of a message are worth; they sum to 100. What proves who wrote it decides most. */
export const MESSAGE_WORTH: Record<MessageSubject, number> = {
  spf: 10,
  dkim: 14,
  dmarc: 16,
  reverse: 8,
  greeting: 4,
  tls: 4,
  'block-lists': 12,
  envelope: 4,
  fields: 8,
  parts: 5,
  links: 5,
  attachments: 5,
  list: 3,
  size: 2,
};

interface Coded {
  verdict: Verdict;
  /** Points of its subject; all faults of a subject together cost no more than it is worth. */
  costs: number;
  why: string;
}
const good = (why: string): Coded => ({ verdict: 'good', costs: 0, why });
const weak = (costs: number, why: string): Coded => ({ verdict: 'weak', costs, why });
const wrong = (costs: number, why: string): Coded => ({ verdict: 'wrong', costs, why });
const missing = (costs: number, why: string): Coded => ({ verdict: 'missing', costs, why });
/** What can't be told costs nothing, and earns nothing. */
const unknown = (why: string): Coded => ({ verdict: 'unknown', costs: 0, why });

/** Every code that a finding about a message can have, by its subject. docs/findings.md has a line for each. */
export const MESSAGE_CODES = {
  spf: {
    'spf-pass': good('The envelope’s domain allows this address to send.'),
    'spf-none': missing(8, 'Without SPF, only a signature can prove that the message is genuine.'),
    'spf-fail': wrong(10, 'The domain declares mail from this address forged; many receivers refuse it.'),
    'spf-softfail': weak(6, 'The domain is unsure of its own servers: receivers treat this as a sign of forgery.'),
    'spf-neutral': weak(5, 'The domain makes no statement about this address, which equals no SPF.'),
    'spf-permerror': wrong(10, 'An unreadable record is as good as none, and some receivers refuse such mail.'),
    'spf-unanswered': unknown('Without an answer, the domain’s policy is unknown.'),
  },
  dkim: {
    'dkim-pass': good('A valid signature shows who is responsible for the message, even after forwarding.'),
    'dkim-none': missing(14, 'An unsigned message is trusted by its address alone, and not at all after forwarding.'),
    'dkim-broken': wrong(14, 'An invalid signature has no value: the message was changed in transit, or the key does not match.'),
    'dkim-one-broken': weak(2, 'One valid signature is enough, but a broken one looks suspicious.'),
    'dkim-weak-key': weak(3, 'Keys below 2048 bits are being phased out (RFC 8301 §3.2); some receivers ignore them.'),
    'dkim-part-only': weak(4, 'With l=, anybody can append text to the signed part, so receivers distrust it (RFC 6376 §8.2).'),
    'dkim-unanswered': unknown('Without the key, the signature cannot be verified.'),
  },
  dmarc: {
    'dmarc-pass': good('The domain in From is authenticated.'),
    'dmarc-none': missing(10, 'Large providers require a DMARC record from bulk senders.'),
    'dmarc-fail': wrong(16, 'The domain in From is not authenticated, as in forged mail.'),
    'dmarc-permerror': wrong(12, 'An unreadable record gives no protection, and does not count where one is required.'),
    'dmarc-author': wrong(16, 'Clients would show different authors, so strict receivers refuse it.'),
    'dmarc-watching': weak(2, 'With p=none, forged mail is still delivered; it is meant for monitoring.'),
    'dmarc-spf-alone': weak(3, 'SPF breaks when the message is forwarded; an aligned signature does not.'),
    'dmarc-unanswered': unknown('Without an answer, the domain’s policy is unknown.'),
  },
  reverse: {
    'reverse-good': good('The address has a name that resolves back to it.'),
    'reverse-none': missing(8, 'Many receivers refuse mail from an address without a name.'),
    'reverse-not-back': wrong(6, 'Anybody can give an address any name; only one that resolves back counts.'),
    'reverse-unanswered': unknown('Without an answer, the name of the address is unknown.'),
  },
  greeting: {
    'greeting-good': good('The server greets with a name that resolves to it.'),
    'greeting-no-name': wrong(4, 'RFC 5321 §4.1.4 asks for a name with a domain; infected home computers have none.'),
    'greeting-nowhere': wrong(3, 'The name does not exist; receivers that look it up consider it fake.'),
    'greeting-elsewhere': weak(1, 'The name points to another address.'),
    'greeting-unanswered': unknown('Without an answer, the address of the name is unknown.'),
  },
  tls: {
    'tls-used': good('It was encrypted in transit.'),
    'tls-none': missing(4, 'It was sent unencrypted; some providers mark such mail, and some refuse it.'),
    'tls-unknown': unknown('TLS is seen only when the message is sent.'),
  },
  'block-lists': {
    'block-lists-good': good('The address is on none of the configured lists.'),
    'block-lists-listed': wrong(12, 'Receivers that use the list refuse everything from this address.'),
    'block-lists-none': unknown('No lists are configured ([dns] block_lists).'),
    'block-lists-unanswered': unknown('Without an answer, it is unknown whether the address is listed.'),
  },
  envelope: {
    'envelope-good': good('Bounces can be delivered.'),
    'envelope-no-way-back': wrong(4, 'Bounces have no server; receivers refuse senders that cannot receive mail.'),
    'envelope-null': weak(1, 'The empty sender is for reports (RFC 5321 §4.5.5); other mail with it gets no bounces.'),
    'envelope-unanswered': unknown('Without an answer, it is unknown whether the sender can receive mail.'),
  },
  fields: {
    'fields-good': good('All required fields are present, once each.'),
    'fields-from-missing': wrong(8, 'RFC 5322 §3.6.2 requires it; the author is unknown.'),
    'fields-doubled': wrong(4, 'RFC 5322 §3.6 allows it once; clients show one or the other, which forgers exploit.'),
    'fields-date-missing': missing(3, 'RFC 5322 §3.6.1 requires it; junk senders often leave it out.'),
    'fields-date-broken': wrong(2, 'Mail with an invalid date (RFC 5322 §3.3) is sorted anywhere.'),
    'fields-date-far': weak(2, 'A date in the future or long ago is an old trick to appear first.'),
    'fields-id-missing': missing(2, 'Junk senders often leave it out, and replies cannot be threaded.'),
    'fields-id-broken': weak(1, 'It is not a valid Message-ID (RFC 5322 §3.6.4): two parts around one @, in angle brackets.'),
    'fields-subject-missing': weak(1, 'Mail without a subject looks like a mistake or junk.'),
    'fields-to-missing': weak(1, 'Mail without recipients in the header looks like bulk mail.'),
    'fields-name-is-address': wrong(4, 'The display name is another address, as in phishing.'),
    'fields-false-answer': weak(1, 'It looks like a reply but names no message: an old trick.'),
    'fields-eight-bit': weak(2, 'Non-ASCII characters in a header must be encoded (RFC 2047); some servers break them.'),
  },
  parts: {
    'parts-good': good('Every client can show it.'),
    'parts-html-only': weak(2, 'Text-only clients show nothing; junk often looks like this.'),
    'parts-differ': wrong(4, 'Text and HTML differ, as in mail that evades filters.'),
    'parts-stub': weak(1, 'The text part has no content of its own.'),
    'parts-pictures': weak(3, 'Filters cannot read pictures, and many clients hide them.'),
    'parts-empty': weak(3, 'The message is empty.'),
    'parts-broken': wrong(4, 'Clients have to guess the structure, and differ.'),
    'parts-unversioned': weak(1, 'RFC 2045 §4 requires MIME-Version; without it, some clients ignore MIME.'),
    'parts-charset': weak(1, 'The charset is unknown, so characters may be displayed wrongly.'),
    'parts-eight-bit': weak(1, 'Some servers change non-ASCII bytes in a 7bit part, which breaks signatures.'),
    'parts-long-line': wrong(3, 'RFC 5322 §2.1.1 allows 998 octets; some servers break longer lines, which breaks signatures.'),
  },
  links: {
    'links-good': good('Each link goes where it says.'),
    'links-other-host': wrong(5, 'The text shows one host and the link goes to another, as in phishing.'),
    'links-address': wrong(4, 'Links to bare addresses are typical of compromised machines.'),
    'links-in-clear': weak(1, 'Anybody on the path can read and change an http link.'),
  },
  attachments: {
    'attachments-good': good('There are no risky attachments.'),
    'attachments-program': wrong(5, 'Most receivers refuse programs and scripts, in archives too.'),
    'attachments-two-endings': wrong(5, 'A program named like a document is treated as an attack.'),
    'attachments-macros': weak(3, 'Filters inspect documents with macros, and often remove them.'),
    'attachments-archive': weak(1, 'Filters unpack archives, and hold back those they cannot open.'),
  },
  list: {
    'list-good': good('Recipients can unsubscribe with one click.'),
    'list-not': good('It does not look like bulk mail.'),
    'list-no-way-out': missing(
      3,
      'Large providers require List-Unsubscribe (RFC 2369) from bulk senders; recipients who cannot unsubscribe report junk.',
    ),
    'list-no-one-click': weak(2, 'Large providers require one click (RFC 8058): an https address, and List-Unsubscribe-Post.'),
    'list-unsigned': weak(1, 'RFC 8058 §4 requires a valid signature over both fields; otherwise one click is not offered.'),
  },
  size: {
    'size-good': good('Every mailbox accepts this size.'),
    'size-html': weak(1, 'Some clients truncate long mail, including the unsubscribe link at its end.'),
    'size-large': weak(2, 'It grows by a third in transit, and many mailboxes refuse it.'),
  },
} as const satisfies Record<MessageSubject, Record<string, Coded>>;

export type MessageCode = { [Subject in MessageSubject]: keyof (typeof MESSAGE_CODES)[Subject] }[MessageSubject];
