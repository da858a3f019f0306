import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { heldContent } from '../../../src/core/message/mail-content.ts';
import { MultiLine } from '../../../src/core/message/multi-line.ts';
import type { RecipientOutcome } from '../../../src/core/smtp/client-intents.ts';
import { ClientSession } from '../../../src/core/smtp/client-session.ts';
import { DataReader, LONGEST_TEXT_LINE } from '../../../src/core/smtp/data-reader.ts';
import { REPLIES } from '../../../src/core/smtp/replies.ts';
import type { Intent, Output, SessionSettings } from '../../../src/core/smtp/server/intents.ts';
import { ServerSession } from '../../../src/core/smtp/server/session.ts';

const SETTINGS: SessionSettings = {
  hostName: 'mail.host.example',
  service: 'inbound',
  maxMessageBytes: 5000,
  maxRecipients: 3,
  tlsOffered: true,
  secure: false,
};

/** Feeds text in pieces to a session that accepts everything, and collects what it says and asks. */
function converse(pieces: (string | Buffer)[], settings: Partial<SessionSettings> = {}) {
  const session = new ServerSession({ ...SETTINGS, ...settings });
  const said: string[] = [];
  const asked: Intent[] = [];
  const kinds: string[] = [];
  const take = (outputs: Output[]): void => {
    for (const output of outputs) {
      kinds.push(output.kind);
      if (output.kind === 'send') said.push(...output.text.split('\r\n').slice(0, -1));
      if (output.kind === 'start-tls') session.tlsStarted();
      if (output.kind === 'ask') {
        asked.push(output.intent);
        take(session.answer({ accepted: true, reply: output.intent.kind === 'message' ? REPLIES.accepted('x1') : REPLIES.ok }));
      }
    }
  };
  for (const piece of pieces) take(session.receive(Buffer.from(piece as string, 'latin1')));
  return { session, said, asked, kinds, codes: said.map((line) => line.slice(0, 3)) };
}

const HELLO = 'EHLO client.example\r\n';
const BEGIN = `${HELLO}MAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example>\r\nDATA\r\n`;

describe('server session', () => {
  it('cut anywhere, a conversation comes to the same (RFC 2920)', () => {
    const text = `${BEGIN}Subject: x\r\n\r\n..dot\r\n.\r\nRSET\r\nNOOP\r\nMAIL FROM:<>\r\nRCPT TO:<Postmaster>\r\nQUIT\r\n`;
    const whole = converse([text]);
    expect(whole.asked.map((one) => one.kind)).toEqual(['sender', 'recipient', 'message', 'sender', 'recipient']);
    expect((whole.asked[2] as { content: Buffer }).content.toString()).toBe('Subject: x\r\n\r\n.dot\r\n');
    expect(whole.asked[4]).toMatchObject({
      kind: 'recipient',
      recipient: { local: 'postmaster', domain: 'mail.host.example' },
      parameters: { notify: null, original: null },
    });
    fc.assert(
      fc.property(fc.array(fc.nat(text.length), { maxLength: 12 }), (cuts) => {
        const at = [0, ...cuts, text.length].sort((one, other) => one - other);
        const pieces = at.slice(1).map((end, index) => text.slice(at[index], end));
        const result = converse(pieces);
        expect(result.said).toEqual(whole.said);
        expect(result.asked).toEqual(whole.asked);
      }),
    );
  });

  it('ends a message only at CR LF . CR LF, and refuses bare CR and LF (smuggling)', () => {
    for (const end of ['\n.\n', '\r.\r', '\n.\r\n', '\r\n.\n', '\r\n.\r', '\r\r\n.\r\n\r']) {
      const { said, asked } = converse([BEGIN, `text${end}MAIL FROM:<evil@b.example>\r\n`, '\r\n.\r\n', 'NOOP\r\n']);
      expect(
        asked.filter((one) => one.kind === 'message'),
        JSON.stringify(end),
      ).toEqual([]);
      expect(said.filter((line) => line.startsWith('554 5.6.0'))).toHaveLength(1);
      expect(said.at(-1)).toBe('250 2.0.0 Done');
    }
  });

  it('drops what was sent in clear after STARTTLS (RFC 3207 §4.2)', () => {
    const { said, asked, session } = converse([HELLO, 'STARTTLS\r\nMAIL FROM:<evil@b.example>\r\n', 'MAIL FROM:<a@b.example>\r\n']);
    expect(asked).toEqual([]);
    expect(session.secure).toBe(true);
    expect(said.at(-1)).toMatch(/^503 5\.5\.1 Say EHLO/);
  });

  it.each([
    ['MAIL FROM:<a@b.example>\r\n', '503'],
    [`${HELLO}RCPT TO:<a@b.example>\r\n`, '503'],
    [`${HELLO}DATA\r\n`, '503'],
    [`${HELLO}MAIL FROM:<a@b.example>\r\nDATA\r\n`, '554'],
    [`${HELLO}MAIL FROM:<a@b.example>\r\nMAIL FROM:<a@b.example>\r\n`, '503'],
    [`${HELLO}MAIL FROM:<a@b.example> SIZE=99999\r\n`, '552'],
    [`${HELLO}MAIL FROM:<a@b.example> SMTPUTF8=1\r\n`, '501'],
    [`${HELLO}MAIL FROM:<josé@b.example>\r\n`, '553'],
    [`${HELLO}MAIL FROM:<a@b.example> RET=ALL\r\n`, '501'],
    [`${HELLO}MAIL FROM:<a@b.example> SIZE=1 SIZE=2\r\n`, '501'],
    [`${HELLO}MAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example> NOTIFY=NEVER,DELAY\r\n`, '501'],
    [`${HELLO}MAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example> ORCPT=rfc822\r\n`, '501'],
    [`${HELLO}MAIL FROM:<a@b.example>\r\nBDAT x\r\n`, '501'],
    [`${HELLO}MAIL FROM:<a@b.example>\r\nBDAT 4 LAST\r\nabcd`, '554'],
    [`${HELLO}MAIL FROM:<añb@b.example>\r\n`, '553'],
    [`${HELLO}MAIL FROM: a@b.example\r\n`, '501'],
    [`${HELLO}RCPT TO:<@relay.example:c@d.example>\r\n`, '503'],
    [`${HELLO}AUTH PLAIN AAAA\r\n`, '503'],
    ['EHLO\r\n', '501'],
    ['GET / HTTP/1.1\r\n', '500'],
    [`${'x'.repeat(20_000)}\r\n`, '500'],
    [`EHLO ${'x'.repeat(300)}\r\n`, '501'],
    ['\x16\x03\x01\x02\x00\x01\x00\x01\r\n', '500'],
  ])('answers %j in the end with %s', (text, code) => {
    expect(converse([text]).codes.at(-1)).toBe(code);
  });

  it('gives up after too many errors, and keeps nothing of an endless line', () => {
    const { kinds, said } = converse(Array.from({ length: 20 }, () => 'WHAT\r\n'));
    expect(kinds.at(-1)).toBe('close');
    expect(said.at(-1)).toMatch(/^421 4\.7\.0/);
    const session = new ServerSession(SETTINGS);
    for (let at = 0; at < 500; at += 1) session.receive(Buffer.alloc(10_000, 0x78));
    expect(session.waiting).toBeLessThan(13_000);
  });

  it('many unknown recipients do not cost the known one its message; guessing without end is stopped', () => {
    const session = new ServerSession({ ...SETTINGS, maxRecipients: 1000 });
    const say = (text: string, accepted = true, code = 250): string => {
      const take = (outputs: Output[]): string =>
        outputs
          .map((one) =>
            one.kind === 'send'
              ? one.text
              : one.kind === 'ask'
                ? take(session.answer({ accepted, reply: { code, status: null, text: 'so' } }))
                : `<${one.kind}>`,
          )
          .join('');
      return take(session.receive(Buffer.from(`${text}\r\n`)));
    };
    say('EHLO x.example');
    say('MAIL FROM:<a@b.example>');
    for (let number = 0; number < 290; number += 1) expect(say(`RCPT TO:<u${number}@d.example>`, false, 550)).toMatch(/^550/);
    say('RCPT TO:<known@d.example>');
    expect(say('DATA')).toMatch(/^354/);
    expect(say('Subject: x\r\n\r\nx\r\n.')).toMatch(/^250/);
    say('MAIL FROM:<a@b.example>');
    let last = '';
    for (let number = 0; number < 300; number += 1) last = say(`RCPT TO:<u${number}@d.example>`, false, 550);
    expect(last).toMatch(/^550 so\r\n421 4\.7\.0 .*<abandon><close>$/s);
  });

  it('hears nothing between STARTTLS and TLS', () => {
    const session = new ServerSession(SETTINGS);
    session.receive(Buffer.from(`${HELLO}STARTTLS\r\n`));
    expect(session.receive(Buffer.from('MAIL FROM:<evil@b.example>\r\n'))).toEqual([]);
    session.tlsStarted();
    expect(session.receive(Buffer.from('NOOP\r\n'))).toHaveLength(1);
  });

  it('too large, and too long a line, are refused once and the conversation stays in step', () => {
    const large = converse([BEGIN, `${'x'.repeat(70)}\r\n`.repeat(100), '.\r\nNOOP\r\n']);
    expect(large.said.slice(-2)).toEqual(['552 5.3.4 The message is larger than 5000 octets', '250 2.0.0 Done']);
    const long = converse([BEGIN, `${'x'.repeat(9000)}\r\n.\r\nNOOP\r\n`], { maxMessageBytes: 100_000 });
    expect(long.said.slice(-2)[0]).toMatch(/^554 5\.6\.0 The message has a line/);
    const loop = converse([BEGIN, `${'Received: x\r\n'.repeat(51)}\r\n.\r\n`]);
    expect(loop.said.at(-1)).toMatch(/^554 5\.4\.6/);
  });

  it('AUTH is offered and taken only under TLS, on submission', () => {
    const plain = Buffer.from('\0ana@b.example\0secret').toString('base64');
    const clear = converse([HELLO, `AUTH PLAIN ${plain}\r\n`, 'MAIL FROM:<a@b.example>\r\n'], { service: 'submission' });
    expect(clear.said.some((line) => line.includes('AUTH'))).toBe(false);
    expect(clear.codes.slice(-2)).toEqual(['538', '530']);
    const secure = converse(
      [
        HELLO,
        `AUTH LOGIN\r\n`,
        `${Buffer.from('ana@b.example').toString('base64')}\r\n`,
        `${Buffer.from('secret').toString('base64')}\r\n`,
      ],
      { service: 'submission', secure: true },
    );
    expect(secure.asked).toEqual([{ kind: 'sign-in', user: 'ana@b.example', password: 'secret' }]);
    for (const wrong of ['AUTH PLAIN !!!', 'AUTH PLAIN =', 'AUTH PLAIN YQ==', 'AUTH CRAM x', 'AUTH LOGIN\r\n*'])
      expect(converse([HELLO, `${wrong}\r\n`], { service: 'submission', secure: true }).codes.at(-1), wrong).toMatch(/^50[14]$/);
  });

  it('the postmaster is known by every address of this host, and by no other (RFC 5321 §4.1.3, §4.5.1)', () => {
    const to = (path: string) =>
      converse([HELLO, 'MAIL FROM:<a@b.example>\r\n', `RCPT TO:<${path}>\r\n`], { addresses: ['192.0.2.25', '2001:db8:25::25'] });
    for (const good of ['Postmaster', 'postmaster@[192.0.2.25]', 'POSTMASTER@[IPv6:2001:DB8:25:0::25]', 'postmaster@[2001:db8:25::25]'])
      expect([good, to(good).asked.at(-1)]).toMatchObject([
        good,
        { kind: 'recipient', recipient: { local: 'postmaster', domain: SETTINGS.hostName } },
      ]);
    for (const bad of ['postmaster@[192.0.2.26]', 'ana@[192.0.2.25]', 'postmaster@[1]', 'postmaster@[]', 'postmaster@192.0.2.25'])
      expect([bad, to(bad).codes.at(-1)?.slice(0, 1)]).toEqual([bad, '5']);
  });

  it('an answer to AUTH that is too long ends the exchange (RFC 4954 §4)', () => {
    for (const piece of [`${'A'.repeat(20_000)}\r\n`, `${'A'.repeat(12_289)}\r\n`])
      expect(
        converse([HELLO, 'AUTH PLAIN\r\n', piece, 'NOOP\r\n', 'AUTH LOGIN\r\n', piece, 'NOOP\r\n'], {
          service: 'submission',
          secure: true,
        }).codes.slice(-6),
      ).toEqual(['334', '500', '250', '334', '500', '250']);
  });

  it('a list with hundreds of dead addresses gets through to the living', () => {
    const bring = (dead: number): string[] => {
      const session = new ServerSession({ ...SETTINGS, maxRecipients: 5000 });
      const codes: string[] = [];
      const take = (outputs: Output[]): void => {
        for (const output of outputs) {
          if (output.kind === 'send')
            codes.push(
              ...output.text
                .split('\r\n')
                .filter((line) => line !== '')
                .map((line) => line.slice(0, 3)),
            );
          if (output.kind !== 'ask') continue;
          const isGone = output.intent.kind === 'recipient' && output.intent.recipient.local.startsWith('gone');
          take(session.answer(isGone ? { accepted: false, reply: REPLIES.unknownMailbox('x') } : { accepted: true, reply: REPLIES.ok }));
        }
      };
      take(session.receive(Buffer.from(`${HELLO}MAIL FROM:<a@b.example>\r\n`)));
      for (let number = 0; number < dead; number += 1) {
        take(session.receive(Buffer.from(`RCPT TO:<gone${number}@d.example>\r\n`)));
        if (number % 250 === 249) take(session.receive(Buffer.from(`RCPT TO:<here${number}@d.example>\r\n`)));
        take(session.proceed());
      }
      take(session.receive(Buffer.from('RCPT TO:<here@d.example>\r\nDATA\r\n')));
      return codes.slice(-2);
    };
    expect(bring(1000)).toEqual(['250', '354']);
  });

  it('nothing a client sends reaches a reply line unescaped', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary', maxLength: 200 }), (text) => {
        for (const line of converse([`EHLO x\r\nMAIL FROM:<${text}>\r\nRCPT TO:<${text}>\r\n${text}\r\n`]).said)
          expect(line).toMatch(/^[\x20-\x7e]*$/);
      }),
    );
  });
});

it('the text comes out of dot-stuffing as it went in', () => {
  fc.assert(
    fc.property(fc.array(fc.string({ unit: fc.constantFrom('.', 'a', ' '), maxLength: 4 }), { maxLength: 10 }), (lines) => {
      const text = lines.map((line) => `${line}\r\n`).join('');
      const reader = new DataReader(1000);
      const sent = Buffer.from(`${text.replace(/(^|\r\n)\./g, '$1..')}.\r\n`);
      expect(reader.push(sent)).toBe(sent.length);
      expect(reader.content.toString()).toBe(text);
    }),
  );
});

it('text in one piece, in two or octet by octet comes to the same, with defects and lines at the limit', () => {
  const read = (octets: Buffer, pieces: Buffer[]): unknown => {
    const reader = new DataReader(20_000);
    let used = 0;
    for (const piece of pieces) {
      const end = reader.push(piece);
      if (end !== null) return [used + end, reader.content.toString('latin1'), reader.defect];
      used += piece.length;
    }
    return [null, octets.length, reader.content.toString('latin1'), reader.defect];
  };
  const run = fc.integer({ min: LONGEST_TEXT_LINE - 3, max: LONGEST_TEXT_LINE + 1 }).map((length) => 'x'.repeat(length));
  const part = fc.oneof(
    { weight: 30, arbitrary: fc.constantFrom('.', 'a', 'bc', '\r\n', '\r', '\n', '\r\n.', '\r\n.\r\n') },
    { weight: 1, arbitrary: run },
  );
  fc.assert(
    fc.property(fc.array(part, { maxLength: 40 }), fc.nat(), (parts, cut) => {
      const octets = Buffer.from(parts.join(''), 'latin1');
      const at = cut % (octets.length + 1);
      const whole = read(octets, [octets]);
      expect(read(octets, [octets.subarray(0, at), octets.subarray(at)])).toEqual(whole);
      expect(
        read(
          octets,
          [...octets].map((octet) => Buffer.from([octet])),
        ),
      ).toEqual(whole);
    }),
  );
  const line = (length: number): unknown => read(Buffer.alloc(0), [Buffer.from(`${'x'.repeat(length)}\r\nafter\r\n.\r\n`)]);
  expect(line(LONGEST_TEXT_LINE - 2)).toMatchObject([LONGEST_TEXT_LINE + 10, expect.stringContaining('after'), null]);
  expect(line(LONGEST_TEXT_LINE - 1)).toMatchObject([LONGEST_TEXT_LINE + 11, '', 'line-too-long']);
});

describe('client session', () => {
  /** Talks the client session through with a server session that decides by `decide`. */
  function deliver(
    recipients: string[],
    decide: (intent: Intent) => { accepted: boolean; code: number },
    pipelining = true,
  ): { outcomes: RecipientOutcome[]; contents: string[] } {
    const client = new ClientSession({ heloName: 'client.example', tls: 'none', credentials: null });
    const server = new ServerSession({ ...SETTINGS, maxRecipients: 100 });
    let outcomes: RecipientOutcome[] = [];
    const contents: string[] = [];
    const sent = Buffer.from('S: x\r\n\r\n.dot\r\n');
    let delivered = false;
    const toServer = (bytes: Buffer): string => {
      let text = '';
      const take = (outputs: Output[]): void => {
        for (const output of outputs) {
          if (output.kind === 'send') text += output.text;
          if (output.kind === 'ask') {
            if (output.intent.kind === 'message') contents.push(output.intent.content.toString());
            const { accepted, code } = decide(output.intent);
            take(server.answer({ accepted, reply: { code, status: null, text: 'so' } }));
          }
        }
      };
      take(server.receive(bytes));
      return pipelining ? text : text.replace('250-PIPELINING\r\n', '');
    };
    const pending = [
      server
        .greet()
        .map((one) => (one.kind === 'send' ? one.text : ''))
        .join(''),
    ];
    for (let next = pending.shift(); next !== undefined; next = pending.shift()) {
      const outputs = client.receive(Buffer.from(next));
      for (let at = 0; at < outputs.length; at += 1) {
        const output = outputs[at];
        if (output?.kind === 'send') pending.push(toServer(output.bytes));
        if (output?.kind === 'send-text') {
          const text = new MultiLine();
          pending.push(toServer(Buffer.concat([text.push(sent), text.end()])));
        }
        if (output?.kind === 'finished') outcomes = output.outcomes;
        if (output?.kind === 'ready' && !delivered) {
          delivered = true;
          outputs.push(
            ...client.deliver({
              sender: 'a@b.example',
              recipients: recipients.map((address) => ({ address, notify: null, original: null })),
              content: heldContent(sent),
              smtputf8: false,
              returnContent: null,
              envelopeId: null,
            }),
          );
        }
      }
    }
    return { outcomes, contents };
  }

  it.each([true, false])('each recipient gets its own outcome (pipelining %s)', (pipelining) => {
    const { outcomes, contents } = deliver(
      ['ok@x.example', 'full@x.example', 'gone@x.example'],
      (intent) => {
        if (intent.kind !== 'recipient') return { accepted: true, code: 250 };
        const code = { ok: 250, full: 452, gone: 550 }[intent.recipient.local] ?? 250;
        return { accepted: code === 250, code };
      },
      pipelining,
    );
    expect(outcomes.map((one) => one.kind)).toEqual(['taken', 'later', 'never']);
    expect(contents).toEqual(['S: x\r\n\r\n.dot\r\n']);
  });

  it.each([true, false])('a refused sender or message is refused for all (pipelining %s)', (pipelining) => {
    const refuse = (kind: Intent['kind'], code: number) =>
      deliver(
        ['a@x.example', 'b@x.example'],
        (intent) => (intent.kind === kind ? { accepted: false, code } : { accepted: true, code: 250 }),
        pipelining,
      );
    expect(refuse('sender', 550).outcomes.map((one) => one.kind)).toEqual(['never', 'never']);
    expect(refuse('recipient', 451).outcomes.map((one) => one.kind)).toEqual(['later', 'later']);
    expect(refuse('message', 554).outcomes.map((one) => one.kind)).toEqual(['never', 'never']);
    expect(refuse('message', 451).outcomes.map((one) => one.kind)).toEqual(['later', 'later']);
  });

  it('a server that talks nonsense, or without end, breaks the conversation', () => {
    for (const text of ['hello there\r\n', `220-${'x'.repeat(70_000)}`, '220-x\r\n'.repeat(300), '554 no\r\n']) {
      const outputs = new ClientSession({ heloName: 'c.example', tls: 'offered', credentials: null }).receive(Buffer.from(text));
      expect(outputs.at(-1)?.kind, text.slice(0, 20)).toBe('broken');
    }
  });
});
