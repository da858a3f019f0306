import { describe, expect, it } from 'vitest';
import { parseDomain } from '../../src/core/address/domain.ts';
import { parseAddress } from '../../src/core/address/mailbox-address.ts';
import { canonicalBody, canonicalField } from '../../src/core/dkim/canonical.ts';
import { parseKeyRecord } from '../../src/core/dkim/key-record.ts';
import { parseSignature } from '../../src/core/dkim/signature.ts';
import { verifyDkim } from '../../src/core/dkim/verify.ts';
import { parseDmarc } from '../../src/core/dmarc/record.ts';
import { CommandReader } from '../../src/core/imap/command-reader.ts';
import { COMMANDS } from '../../src/core/imap/commands.ts';
import { fitsPattern, readFolderName } from '../../src/core/imap/names.ts';
import { baseSubject } from '../../src/core/imap/sorting.ts';
import { SyntaxFault, Tokens } from '../../src/core/imap/tokens.ts';
import { reasonOf } from '../../src/core/journal/reasons.ts';
import { wordsAsked, wordsOfText } from '../../src/core/journal/words.ts';
import { withoutForgedResults } from '../../src/core/judgement/authentication-results.ts';
import { judge } from '../../src/core/judgement/judge.ts';
import { addressesIn } from '../../src/core/message/address-list.ts';
import { authorsOf } from '../../src/core/message/authors.ts';
import { deliveryReport, fromXtext } from '../../src/core/message/dsn.ts';
import { encodedWords } from '../../src/core/message/encoded-words.ts';
import { displayText, parseFields, withoutFields } from '../../src/core/message/fields.ts';
import { readSubmission, summaryOf } from '../../src/core/message/submission.ts';
import { deliveredTo } from '../../src/core/message/trace.ts';
import { listedAddresses } from '../../src/core/mime/addresses.ts';
import { outlineOf } from '../../src/core/mime/outline.ts';
import { readParametrised } from '../../src/core/mime/parameters.ts';
import { readMime } from '../../src/core/mime/reader.ts';
import { decodedWords, transferDecoded } from '../../src/core/mime/words.ts';
import type { Lookup } from '../../src/core/records/answers.ts';
import { readPlain } from '../../src/core/sasl-plain.ts';
import { ClientSession } from '../../src/core/smtp/client-session.ts';
import { ServerSession } from '../../src/core/smtp/server/session.ts';
import { readCommand } from '../../src/core/smtp/server/verbs.ts';
import { evaluateSpf } from '../../src/core/spf/evaluate.ts';
import { expandText, isExplanation } from '../../src/core/spf/macros.ts';
import { parseSpf } from '../../src/core/spf/record.ts';
import { readContents } from '../../src/core/trial/contents.ts';
import { fieldFindings } from '../../src/core/trial/fields.ts';
import { readHtml } from '../../src/core/trial/html.ts';
import { linkFindings } from '../../src/core/trial/links.ts';
import { partFindings } from '../../src/core/trial/parts.ts';

/** What is repeated until the text is long: nesting, quotes, backslashes, empty and repeated parts, folds. */
const SHAPES = [
  '(',
  ')',
  '()',
  '(\\',
  '"',
  '\\"',
  '\\',
  '"a" ',
  '<',
  '<>',
  '<a@b>,',
  '<"',
  'a@',
  '@',
  '.',
  'a.',
  ',',
  ';',
  ':',
  'a:',
  'a=;',
  'a=b;',
  ' ',
  '\t',
  ' \t',
  'a ',
  '\r\n ',
  '\r\n\t',
  ' \r\n ',
  '=?',
  '=?utf-8?q?',
  '=?utf-8?q?a?= ',
  '=?a?b?',
  '%',
  '%{d',
  '%{d}',
  '%{d9999r.-}',
  '/',
  '/1',
  '//1',
  'a/',
  ' a:b/1',
  ' include:a.example',
  ' ip4:192.0.2.1',
  '+',
  '+20',
  '-',
  'é',
  '\0',
  '[',
  '(a)(',
  'x\\"',
  '\\"\\x',
];
/** What stands before and behind the repeated part, so that a reader gets into its inner loops. */
const FRAMES: readonly (readonly [string, string])[] = [
  ['', ''],
  ['<x', '>'],
  ['x', '!'],
  ['<x', ''],
  ['"', ''],
  ['(', ''],
  ['v=spf1 a:', ' -all'],
  ['v=DKIM1; p=', ''],
  ['=?utf-8?q?', ''],
];

/** Shapes that nest: as many ends follow. */
const CLOSED: Record<string, string> = { '(': ')', '(a)(': ')', '<': '>', '[': ']' };
const CASES = SHAPES.flatMap((shape) => FRAMES.map(([before, behind]) => [shape, before, behind] as const));

const none: Lookup = async () => ({ kind: 'none', reason: 'no-such-name' });
const message = (name: string, text: string): Buffer => Buffer.from(`From: a@b.example\r\n${name}: ${text}\r\n\r\nbody\r\n`, 'latin1');
const field = (text: string) => ({ name: 'DKIM-Signature', value: text.replaceAll('\r\n', ''), raw: `DKIM-Signature: ${text}` });
const FACTS = { sender: 'a@b.example', domain: 'b.example', clientAddress: '192.0.2.1', helo: 'h.example', validatedName: 'x' };
const spf = (lookup: Lookup) => evaluateSpf({ clientAddress: '192.0.2.1', sender: 'a@b.example', domain: 'b.example', helo: 'h' }, lookup);

const READERS: Record<string, (text: string) => unknown> = {
  addressesIn,
  authorsOf: (text) => authorsOf(parseFields(message('From', text))),
  withoutFields: (text) => withoutFields(message('Bcc', text), ['bcc']),
  encodedWords: (text) => encodedWords(text),
  isExplanation,
  readPlain,
  parseAddress: (text) => parseAddress(text, true),
  parseDomain,
  displayText,
  parseFields: (text) => parseFields(message('Subject', text)),
  readSubmission: (text) => readSubmission(Buffer.from(`From: ${text}\r\nSender: ${text}\r\n\r\n`, 'latin1')),
  summaryOf: (text) => [summaryOf(message('Subject', text)), summaryOf(message('Message-ID', text))],
  deliveredTo: (text) => deliveredTo(message('Delivered-To', text)),
  withoutForgedResults: (text) => withoutForgedResults(message('Authentication-Results', text), 'h.example'),
  parseSignature: (text) => parseSignature(field(`v=1; a=rsa-sha256; d=b.example; s=k; bh=x; b=${text}; h=from`)),
  'parseSignature h=': (text) => parseSignature(field(`v=1; a=rsa-sha256; d=b.example; s=k; bh=x; b=x; h=from:${text}`)),
  canonicalField: (text) => [canonicalField(`X: ${text}`, 'relaxed'), canonicalField(`X: ${text}`, 'simple')],
  canonicalBody: (text) => [canonicalBody(Buffer.from(text), 'relaxed'), canonicalBody(Buffer.from(text), 'simple')],
  parseKeyRecord,
  parseDmarc: (text) => [parseDmarc(text), parseDmarc(`v=DMARC1; p=none; rua=${text}`)],
  parseSpf: (text) => [parseSpf(text), parseSpf(`v=spf1 ${text}`)],
  expandText: (text) => expandText(text, FACTS),
  evaluateSpf: (text) => spf(async () => ({ kind: 'found', values: [`v=spf1 ${text}`] as never, ttl: 1, alias: null })),
  outlineOf: (text) =>
    ['Subject', 'To', 'Content-Type', 'Content-Disposition', 'References', 'Date'].map((name) => outlineOf(message(name, text))),
  readMime: (text) => [
    readMime(Buffer.from(`Content-Type: multipart/mixed; boundary="${text.slice(0, 40)}"\r\n\r\n${text}`, 'latin1')),
    readMime(Buffer.from(`Content-Type: multipart/mixed; boundary=b\r\n\r\n${text.replaceAll('a', '--b\r\n')}`, 'latin1')),
    readMime(Buffer.from(text, 'latin1')),
  ],
  transferDecoded: (text) => ['base64', 'quoted-printable'].map((one) => transferDecoded(Buffer.from(text, 'latin1'), one)),
  decodedWords,
  listedAddresses,
  readParametrised: (text) => readParametrised(`a/b; ${text}`),
  baseSubject,
  readFolderName: (text) => [true, false].map((isUtf8) => readFolderName(Buffer.from(text, 'latin1'), isUtf8)),
  fitsPattern: (text) => fitsPattern(text, '*a%b*'),
  'IMAP commands': (text) => {
    const reader = new CommandReader(() => ({ line: 1e7, literal: 1e7, message: 1e7, all: 1e7 }));
    reader.push(Buffer.from(`a SEARCH ${text.replaceAll('\n', ' ').replaceAll('\r', ' ')}\r\n`, 'latin1'));
    const read = reader.next(false);
    if (read?.kind !== 'command') return;
    for (const name of ['SEARCH', 'UID FETCH', 'LIST', 'STORE', 'ID', 'APPEND', 'SELECT'])
      try {
        const tokens = new Tokens(read.command.pieces);
        tokens.space();
        COMMANDS[name]?.read(tokens, { enabled: new Set(['QRESYNC']) } as never);
      } catch (error) {
        if (!(error instanceof SyntaxFault)) throw error;
      }
  },
  readCommand: (text) => ['', 'MAIL FROM:<', 'RCPT TO:<', 'MAIL FROM:<> ', 'AUTH ', 'EHLO '].map((verb) => readCommand(verb + text)),
  serverSession: (text) =>
    new ServerSession({
      hostName: 'h.example',
      service: 'inbound',
      maxMessageBytes: 1e6,
      maxRecipients: 9,
      tlsOffered: false,
      secure: false,
    }).receive(Buffer.from(text.replaceAll('\r\n ', '\r\n'), 'latin1')),
  clientSession: (text) =>
    new ClientSession({ heloName: 'h.example', tls: 'none', credentials: null }).receive(Buffer.from(`220 ${text}`, 'latin1')),
  readHtml: (text) => ['', '<a href="', '<p ', '<!--', '<![CDATA[', '&'].map((tag) => readHtml(tag + text)),
  fieldFindings: (text) =>
    ['From', 'Subject', 'Date', 'Message-ID', 'To'].map((name) => fieldFindings(readMime(message(name, text)).fields, 0)),
  linkFindings: (text) =>
    linkFindings([
      { text, href: `https://${text}` },
      { text: `www.${text}`, href: 'https://a.example' },
    ]),
  partFindings: (text) =>
    ['Content-Type: text/html', 'Content-Type: multipart/mixed; boundary=b', 'Content-Disposition: attachment; filename="'].map((field) => {
      const octets = Buffer.from(`${field}\r\n\r\n${text}`, 'latin1');
      return partFindings(octets, readContents(octets));
    }),
  fromXtext,
  reasonOf,
  wordsOfText: (text) => [wordsOfText(text), wordsAsked(text)],
  judge: (text) =>
    judge({ clientAddress: '192.0.2.1', helo: text, sender: text, content: message('To', text) }, none, {
      receiver: 'h.example',
      now: 0,
      draw: 0,
    }),
  deliveryReport: (text) =>
    deliveryReport({
      action: 'failed',
      hostName: 'h.example',
      to: 'a@b.example',
      id: 'i',
      originalId: 'o',
      at: 0,
      arrivedAt: 0,
      until: null,
      envelopeId: text,
      recipients: [{ recipient: 'c@d.example', original: text, status: '5.0.0', diagnostic: text, remoteHost: null }],
      original: message('Subject', text),
      whole: true,
    }),
};

const SIZE = 10_000;
/** The processor's time for it, in ms; the least of some runs. What else the machine does meanwhile does not count. */
async function timeOf(read: (text: string) => unknown, text: string): Promise<number> {
  let least = Number.POSITIVE_INFINITY;
  for (let run = 0; run < 3 && least > 20; run += 1) {
    const before = process.cpuUsage();
    await read(text);
    const { user, system } = process.cpuUsage(before);
    least = Math.min(least, (user + system) / 1000);
  }
  return least;
}

describe('what a stranger wrote is read in linear time', () => {
  it.each(Object.entries(READERS))('%s', async (_name, read) => {
    const slow: string[] = [];
    for (const [shape, before, behind] of CASES) {
      const text = (size: number): string => {
        const count = Math.ceil(size / (shape.length + (CLOSED[shape]?.length ?? 0)));
        return before + shape.repeat(count) + (CLOSED[shape] ?? '').repeat(count) + behind;
      };
      let many = 0;
      // Four times as much takes four times as long; sixteen times would be quadratic, whenever it is measured.
      const isSlow = async (): Promise<boolean> => {
        many = await timeOf(read, text(4 * SIZE));
        return many > 1000 || (many > 40 && many > 9 * (await timeOf(read, text(SIZE))));
      };
      if ((await isSlow()) && (await isSlow()) && (await isSlow())) slow.push(`${before}${JSON.stringify(shape)}: ${Math.round(many)} ms`);
    }
    expect(slow).toEqual([]);
  });

  it('a header of thousands of empty fields, and a signature that names thousands more', async () => {
    const names = (count: number, make: (at: number) => string): string => Array.from({ length: count }, (_none, at) => make(at)).join('');
    const signed = (count: number): Buffer =>
      Buffer.from(
        `DKIM-Signature: v=1; a=rsa-sha256; d=b.example; s=k; bh=frcCV1k9oG9oKj3dpUqdJg1PxRT2RSN/XKdLCPjaYaY=; b=AA==;\r\n h=from${names(count, (at) => `:\r\n x${at}`)}\r\n` +
          `From: a@b.example\r\n${names(count, () => 'x:\r\n')}\r\n`,
        'latin1',
      );
    const key =
      'v=DKIM1; p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQDwIRP/UC3SBsEmGqZ9ZJW3/DkMoGeLnQg1fWn7/zYtIxN2SnFCjxOCKG9v3b4jYfcTNh5ijSsq631uBItLa7od+v/RtdC2UzJ1lWT947qR+Rcac2gbto/NMqJ0fzfVjH4OuKhitdY9tf6mcwGjaNBcWToIMmPSPDdQPNUYckcQ2QIDAQAB';
    const lookup: Lookup = async () => ({ kind: 'found', values: [key] as never, ttl: 1, alias: null });
    const verify = (text: string): Promise<unknown> => verifyDkim(signed(Number(text)), lookup, 0);
    const many = await timeOf(verify, '8000');
    expect(many).toBeLessThan(Math.max(200, 9 * (await timeOf(verify, '2000'))));
  });
});
