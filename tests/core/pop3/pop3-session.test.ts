import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { MultiLine } from '../../../src/core/message/multi-line.ts';
import type { PopIntent, PopOutput } from '../../../src/core/pop3/intents.ts';
import { PopSession } from '../../../src/core/pop3/session.ts';

const MESSAGES = [
  { id: 11, size: 120, uid: 'm11' },
  { id: 12, size: 200, uid: 'm12' },
  { id: 15, size: 320, uid: 'm15' },
];
const CONTENT = 'Subject: x\r\n\r\n.one\r\ntwo\r\nthree\r\n';

function converse(lines: string[], secure = true) {
  const session = new PopSession({ hostName: 'h.example', tlsOffered: true, secure });
  const asked: PopIntent[] = [];
  let text = '';
  const take = (outputs: PopOutput[]): void => {
    for (const output of outputs) {
      if (output.kind === 'send') text += output.bytes.toString();
      if (output.kind === 'text') text += multiLine(output.lines);
      if (output.kind === 'start-tls') session.tlsStarted();
      if (output.kind !== 'ask') continue;
      asked.push(output.intent);
      if (output.intent.kind === 'sign-in')
        take(
          session.answer(
            output.intent.password === 'right' ? { kind: 'opened', messages: MESSAGES } : { kind: 'refused', code: 'AUTH', text: 'no' },
          ),
        );
      else take(session.answer(output.intent.kind === 'read' ? { kind: 'content' } : { kind: 'removed' }));
    }
  };
  for (const line of lines) {
    take(session.receive(Buffer.from(`${line}\r\n`)));
    take(session.proceed());
  }
  return { text, asked, last: text.split('\r\n').at(-2) };
}

/** The text octet by octet. */
function multiLine(lines: number | null): string {
  const answer = new MultiLine(lines);
  const pieces = [...Buffer.from(CONTENT)].map((octet) => answer.push(Buffer.from([octet])));
  return Buffer.concat([...pieces, answer.end()]).toString();
}

const IN = ['USER ana@x.example', 'PASS right'];

describe('POP3 session (RFC 1939)', () => {
  it('counts, lists and numbers by what is left', () => {
    expect(converse([...IN, 'STAT']).last).toBe('+OK 3 640');
    expect(converse([...IN, 'DELE 2', 'STAT']).last).toBe('+OK 2 440');
    expect(converse([...IN, 'DELE 2', 'RSET', 'STAT']).last).toBe('+OK 3 640');
    expect(converse([...IN, 'DELE 1', 'LIST']).text).toContain('+OK\r\n2 200\r\n3 320\r\n.\r\n');
    expect(converse([...IN, 'UIDL 3']).last).toBe('+OK 3 m15');
  });
  it('takes AUTH PLAIN in one line or two, under TLS alone (RFC 5034)', () => {
    const plain = (user: string, password = 'right', onBehalf = ''): string =>
      Buffer.from(`${onBehalf}\0${user}\0${password}`).toString('base64');
    const good = plain('ana@x.example');
    expect(converse(['CAPA']).text).toContain('\r\nSASL PLAIN\r\n');
    expect(converse(['CAPA'], false).text).not.toContain('SASL');
    for (const lines of [[`AUTH PLAIN ${good}`], ['auth plain', good], ['AUTH PLAIN', '*', `AUTH PLAIN ${good}`]]) {
      const { asked, last } = converse([...lines, 'STAT']);
      expect([asked[0], last]).toEqual([{ kind: 'sign-in', user: 'ana@x.example', password: 'right', isUtf8: false }, '+OK 3 640']);
    }
    expect(converse(['AUTH PLAIN']).last).toBe('+ ');
    expect(converse([`AUTH PLAIN ${plain('ana@x.example', 'x'.repeat(900))}`]).asked).toHaveLength(1);
    for (const wrong of ['!', '=', 'YQ==', good.slice(1), plain('', 'x'), plain('a', 'b', 'c'), `${good} more`, 'A'.repeat(20_000)])
      expect([wrong.slice(0, 9), converse([`AUTH PLAIN ${wrong}`]).last?.slice(0, 4)]).toEqual([wrong.slice(0, 9), '-ERR']);
    for (const line of ['AUTH', 'AUTH LOGIN', `AUTH CRAM ${good}`]) expect(converse([line]).last).toMatch(/^-ERR Only PLAIN is/);
    expect(converse([`AUTH PLAIN ${good}`], false)).toMatchObject({ asked: [], last: '-ERR Begin TLS first (STLS)' });
    // A command is no longer for that.
    expect(converse([`USER ${'a'.repeat(600)}`]).last).toBe('-ERR The line is too long');
  });
  it('sends messages with dots doubled, and only so many lines for TOP', () => {
    expect(converse([...IN, 'RETR 1']).text).toContain('+OK\r\nSubject: x\r\n\r\n..one\r\ntwo\r\nthree\r\n.\r\n');
    expect(converse([...IN, 'TOP 1 1']).text).toContain('+OK\r\nSubject: x\r\n\r\n..one\r\n.\r\n');
    expect(converse([...IN, 'TOP 1 0']).text).toContain('+OK\r\nSubject: x\r\n\r\n.\r\n');
  });
  it('doubles the same dots however the text is cut', () => {
    fc.assert(
      fc.property(
        fc.array(fc.constantFrom('a', '.', '\r\n', '\r', '\n'), { maxLength: 30 }),
        fc.array(fc.nat(50), { maxLength: 8 }),
        (parts, cuts) => {
          const text = parts.join('');
          const answer = new MultiLine();
          const at = [0, ...cuts.filter((one) => one < text.length).sort((one, other) => one - other), text.length];
          const sent = at.slice(1).map((end, i) => answer.push(Buffer.from(text.slice(at[i], end))));
          const whole = text.replace(/(^|\r\n)\./g, '$1..');
          expect(Buffer.concat([...sent, answer.end()]).toString()).toBe(`${whole}${/(^|\r\n)$/.test(text) ? '' : '\r\n'}.\r\n`);
        },
      ),
    );
  });
  it('removes only at QUIT, and only what is marked', () => {
    expect(converse([...IN, 'DELE 1', 'DELE 3', 'QUIT']).asked.at(-1)).toEqual({ kind: 'remove', ids: [11, 15] });
    expect(converse([...IN, 'QUIT']).asked).toHaveLength(1);
    expect(converse([...IN, 'DELE 1']).asked).toHaveLength(1);
  });
  it.each([
    [['STAT']],
    [['PASS right']],
    [['USER a', 'PASS wrong']],
    [[...IN, 'RETR 4']],
    [[...IN, 'RETR 0']],
    [[...IN, 'RETR -1']],
    [[...IN, 'RETR 1e1']],
    [[...IN, 'DELE 1', 'DELE 1']],
    [[...IN, 'DELE 1', 'RETR 1']],
    [[...IN, 'TOP 1']],
    [[...IN, 'USER b']],
    [['WHAT']],
    [['x'.repeat(600)]],
  ])('%j ends in an error', (lines) => {
    expect(converse(lines as string[]).last).toMatch(/^-ERR /);
  });
  it('takes no password in clear, and forgets what came before TLS', () => {
    const { text, asked } = converse(['CAPA', 'USER ana', 'PASS right', 'STLS', 'PASS right'], false);
    expect(text).toContain('STLS\r\n');
    expect(text).not.toContain('\r\nUSER\r\n');
    expect(asked).toEqual([]);
  });

  it('letters as they are have to be asked for before signing in, and languages are told (RFC 6856)', () => {
    expect(converse(['CAPA']).text).toContain('\r\nUTF8 USER\r\nLANG\r\n');
    expect(converse([...IN, 'RETR 1']).asked.at(-1)).toEqual({ kind: 'read', id: 11, isUtf8: false });
    expect(converse(['UTF8', ...IN, 'RETR 1']).asked.at(-1)).toEqual({ kind: 'read', id: 11, isUtf8: true });
    expect(converse(['UTF8 x']).last).toBe('-ERR UTF8 has no argument');
    expect(converse([...IN, 'UTF8']).last).toBe('-ERR There is no such command');
    // What was said in the clear is forgotten.
    expect(converse(['UTF8', 'STLS', ...IN, 'RETR 1'], false).asked.at(-1)).toEqual({ kind: 'read', id: 11, isUtf8: false });
    expect(converse(['USER añá@x.example', 'PASS right']).asked[0]).toMatchObject({ user: 'añá@x.example' });
    expect(converse(['LANG']).text).toContain('+OK Languages\r\ni-default English\r\nen English\r\n.\r\n');
    expect(converse(['LANG EN-gb', 'LANG *']).text).toContain('+OK en English\r\n+OK i-default English\r\n');
    expect(converse([...IN, 'LANG tlh']).last).toBe('-ERR Unsupported language');
  });
});
