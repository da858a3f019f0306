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
    'spf-pass': good('The domain of the envelope says that this address may send for it.'),
    'spf-none': missing(8, 'Without SPF nothing but a signature can show that the message is genuine.'),
    'spf-fail': wrong(10, 'The domain says that mail from this address is forged; many receivers refuse it at once.'),
    'spf-softfail': weak(6, 'The domain is not sure of its own servers: receivers take it for a sign of forgery.'),
    'spf-neutral': weak(5, 'The domain says nothing about this address, which is as good as no SPF.'),
    'spf-permerror': wrong(10, 'A record that can’t be read is as good as none, and some receivers refuse for it.'),
    'spf-unanswered': unknown('Without an answer nobody knows what the domain says.'),
  },
  dkim: {
    'dkim-pass': good('A signature that verifies shows who stands for the message, even when it was passed on.'),
    'dkim-none': missing(14, 'An unsigned message is believed by its address alone, and by nobody once it was passed on.'),
    'dkim-broken': wrong(
      14,
      'A signature that does not verify is worth nothing: the text was changed on its way, or the key is another one.',
    ),
    'dkim-one-broken': weak(2, 'One signature verifies, which is enough; the other one makes receivers wonder.'),
    'dkim-weak-key': weak(3, 'Keys below 2048 bits are on their way out (RFC 8301 §3.2); some receivers take them for none.'),
    'dkim-part-only': weak(4, 'With l= anybody can add text below the signed part, so receivers distrust it (RFC 6376 §8.2).'),
    'dkim-unanswered': unknown('Without the key nobody can verify the signature.'),
  },
  dmarc: {
    'dmarc-pass': good('The domain that people see in From is proven.'),
    'dmarc-none': missing(10, 'The large providers ask for a DMARC record of everybody who sends in numbers.'),
    'dmarc-fail': wrong(16, 'Nothing proves the domain that people see in From: this is what forged mail looks like.'),
    'dmarc-permerror': wrong(12, 'A record that can’t be read protects nobody, and is no record for those who ask for one.'),
    'dmarc-author': wrong(16, 'Mail programs would show different authors, so strict receivers refuse it.'),
    'dmarc-watching': weak(2, 'With p=none forged mail is delivered all the same; it is for watching, not for ever.'),
    'dmarc-spf-alone': weak(3, 'SPF breaks as soon as somebody forwards the message; an aligned signature would hold.'),
    'dmarc-unanswered': unknown('Without an answer nobody knows what the domain wants.'),
  },
  reverse: {
    'reverse-good': good('The address has a name that leads back to it.'),
    'reverse-none': missing(8, 'Many receivers take no mail from an address without a name.'),
    'reverse-not-back': wrong(6, 'Anybody can give an address any name; only one that leads back counts.'),
    'reverse-unanswered': unknown('Without an answer nobody knows the name of the address.'),
  },
  greeting: {
    'greeting-good': good('The server says a name that leads to it.'),
    'greeting-no-name': wrong(4, 'RFC 5321 §4.1.4 asks for a name with a domain; home computers that send junk have none.'),
    'greeting-nowhere': wrong(3, 'The name does not exist; receivers that look it up take it for made up.'),
    'greeting-elsewhere': weak(1, 'The name leads to another address than the one that says it.'),
    'greeting-unanswered': unknown('Without an answer nobody knows where the name leads.'),
  },
  tls: {
    'tls-used': good('Nobody on the way could read it.'),
    'tls-none': missing(4, 'It crossed the net in clear; some providers mark that, and some refuse it.'),
    'tls-unknown': unknown('Whether TLS is used is seen when it is handed over.'),
  },
  'block-lists': {
    'block-lists-good': good('None of the lists that are asked here names the address.'),
    'block-lists-listed': wrong(12, 'Receivers that use the list refuse everything from this address.'),
    'block-lists-none': unknown('No list is set in the configuration ([dns] block_lists), so none was asked.'),
    'block-lists-unanswered': unknown('Without an answer nobody knows whether the address is listed.'),
  },
  envelope: {
    'envelope-good': good('Bounces find their way back.'),
    'envelope-no-way-back': wrong(4, 'Bounces find no server; receivers refuse senders that can’t be answered.'),
    'envelope-null': weak(1, 'The empty sender is for reports (RFC 5321 §4.5.5); a letter that has it gets no bounces.'),
    'envelope-unanswered': unknown('Without an answer nobody knows whether the sender can be reached.'),
  },
  fields: {
    'fields-good': good('The header says what it has to, once each.'),
    'fields-from-missing': wrong(8, 'RFC 5322 §3.6.2 asks for it; nobody knows who wrote.'),
    'fields-doubled': wrong(4, 'RFC 5322 §3.6 allows it once; programs show one or the other, which forgers use.'),
    'fields-date-missing': missing(3, 'RFC 5322 §3.6.1 asks for it; programs that send junk leave it out.'),
    'fields-date-broken': wrong(2, 'What is no date (RFC 5322 §3.3) is sorted anywhere.'),
    'fields-date-far': weak(2, 'A date from the future, or from long ago, is an old trick to be on top of the list.'),
    'fields-id-missing': missing(2, 'Programs that send junk leave it out; answers can’t be put together.'),
    'fields-id-broken': weak(1, 'It is no Message-ID as RFC 5322 §3.6.4 has it: left and right of one @, in angle brackets.'),
    'fields-subject-missing': weak(1, 'A letter without a subject looks like a mistake or like junk.'),
    'fields-to-missing': weak(1, 'A letter to nobody is what mass mail looks like.'),
    'fields-name-is-address': wrong(4, 'The name beside the address is the address of somebody else: that is how people are deceived.'),
    'fields-false-answer': weak(1, 'It calls itself an answer and names no message that it answers: an old trick.'),
    'fields-eight-bit': weak(2, 'Letters beyond ASCII in a header have to be encoded (RFC 2047); some servers break them.'),
  },
  parts: {
    'parts-good': good('Every program can show it.'),
    'parts-html-only': weak(2, 'Programs that show text alone show nothing; junk is often made so.'),
    'parts-differ': wrong(4, 'Text and HTML say different things: that is how filters are deceived.'),
    'parts-stub': weak(1, 'The text part only says that there is another one.'),
    'parts-pictures': weak(3, 'Filters read no pictures, and many people see none until they ask.'),
    'parts-empty': weak(3, 'There is nothing to read.'),
    'parts-broken': wrong(4, 'Programs guess what was meant, each in its own way.'),
    'parts-unversioned': weak(1, 'RFC 2045 §4 asks for MIME-Version; without it some programs read none of it as MIME.'),
    'parts-charset': weak(1, 'Nobody knows the charset that it names, so letters may come out wrong.'),
    'parts-eight-bit': weak(1, 'Octets beyond ASCII in a part that says 7bit are changed by some servers, which breaks signatures.'),
    'parts-long-line': wrong(3, 'RFC 5322 §2.1.1 allows 998 octets; servers on the way cut longer lines, which breaks signatures.'),
  },
  links: {
    'links-good': good('Each link leads where it says.'),
    'links-other-host': wrong(5, 'The text shows one host and leads to another: that is how passwords are stolen.'),
    'links-address': wrong(4, 'Links to a bare address are what broken-in machines send.'),
    'links-in-clear': weak(1, 'A link over http can be read and changed by anybody between.'),
  },
  attachments: {
    'attachments-good': good('Nothing is attached that receivers turn away.'),
    'attachments-program': wrong(5, 'Most receivers refuse programs and scripts, in archives too.'),
    'attachments-two-endings': wrong(5, 'A program that calls itself a document is taken for an attack.'),
    'attachments-macros': weak(3, 'Documents with macros are opened by filters, and often taken out.'),
    'attachments-archive': weak(1, 'Filters open archives, which takes time; what they can’t open they keep back.'),
  },
  list: {
    'list-good': good('Whoever wants no more of it gets out with one click.'),
    'list-not': good('It does not look like mail to many.'),
    'list-no-way-out': missing(
      3,
      'The large providers ask for List-Unsubscribe (RFC 2369) of all who send to many; who finds no way out says “junk”.',
    ),
    'list-no-one-click': weak(2, 'The large providers ask for one click (RFC 8058): an https address, and List-Unsubscribe-Post.'),
    'list-unsigned': weak(1, 'RFC 8058 §4 asks that a valid signature covers both fields; else the click is not offered.'),
  },
  size: {
    'size-good': good('Every mailbox takes it.'),
    'size-html': weak(1, 'Some programs cut off what is long, with the way to unsubscribe at its end.'),
    'size-large': weak(2, 'It grows by a third on its way, and many mailboxes refuse it.'),
  },
} as const satisfies Record<MessageSubject, Record<string, Coded>>;

export type MessageCode = { [Subject in MessageSubject]: keyof (typeof MESSAGE_CODES)[Subject] }[MessageSubject];
