import { describe, expect, it } from 'vitest';
import { domainName, parseDomain } from '../../../src/core/address/domain.ts';
import { isIpAddress, plainAddress, whoseAddress, wideAddress } from '../../../src/core/address/ip-address.ts';
import {
  addressKey,
  formatAddress,
  needsUtf8,
  parseAddress,
  parseNewLocalPart,
  withoutTag,
} from '../../../src/core/address/mailbox-address.ts';
import { ChunkReader } from '../../../src/core/smtp/chunk-reader.ts';
import { LONGEST_TEXT_LINE } from '../../../src/core/smtp/data-reader.ts';
import { OctetBudget } from '../../../src/core/smtp/octet-budget.ts';
import { REPLIES } from '../../../src/core/smtp/replies.ts';
import { readCommand } from '../../../src/core/smtp/server/verbs.ts';

describe('addresses', () => {
  it.each<[string, string | null]>([
    ['ana@shop.example', 'ana@shop.example'],
    ['Ana.Lo+x@SHOP.example.', 'Ana.Lo+x@shop.example'],
    ['"a b"@shop.example', '"a b"@shop.example'],
    ['"a\\"b"@shop.example', '"a\\"b"@shop.example'],
    ['"ana"@shop.example', 'ana@shop.example'],
    ['a@b@shop.example', null],
    ['"a@b"@shop.example', '"a@b"@shop.example'],
    [`${'x'.repeat(64)}@shop.example`, `${'x'.repeat(64)}@shop.example`],
    [`${'x'.repeat(65)}@shop.example`, null],
    ['@shop.example', null],
    ['ana', null],
    ['a..b@shop.example', null],
    ['.a@shop.example', null],
    ['a.@shop.example', null],
    ['a\u0007@shop.example', null],
    ['añ@shop.example', null],
    ['ana@[192.0.2.1]', null],
    ['ana@shop', null],
  ])('%j is %j', (text, written) => {
    const parsed = parseAddress(text);
    expect(parsed.kind === 'ok' ? formatAddress(parsed.address) : null).toBe(written);
  });
  it('beyond ASCII only where it was asked for, and never with what can’t be seen', () => {
    for (const [text, ok] of [
      ['añ@shop.example', true],
      ['a\u202eb@shop.example', false],
      ['a\u2028b@shop.example', false],
      ['a\u2029b@shop.example', false],
      ['a\u0007b@shop.example', false],
      ['a\u200db@shop.example', false],
      [`${'ñ'.repeat(32)}@shop.example`, true],
      [`${'ñ'.repeat(33)}@shop.example`, false],
    ] as const)
      expect(parseAddress(text, true).kind === 'ok', JSON.stringify(text)).toBe(ok);
    // One spelling for what looks the same.
    const pair = [parseAddress('an\u0303@shop.example', true), parseAddress('a\u00f1@shop.example', true)].map((one) =>
      one.kind === 'ok' ? addressKey(one.address) : '',
    );
    expect(pair[0]).toBe(pair[1]);
    expect([needsUtf8('a@b'), needsUtf8('ñ@b')]).toEqual([false, true]);
    expect([withoutTag('ana+x+y'), withoutTag('ana'), withoutTag('+x')]).toEqual(['ana', 'ana', '+x']);
  });
  it.each<[string, string | null]>([
    [' Ana ', 'ana'],
    ['a.b-c_d9', 'a.b-c_d9'],
    ['x'.repeat(64), 'x'.repeat(64)],
    ['x'.repeat(65), null],
    ['', null],
    ['a+b', null],
    ['a..b', null],
    ['ñ', null],
    ['a b', null],
    ['.a', null],
  ])('%j may be given out as %j', (text, local) => {
    const parsed = parseNewLocalPart(text);
    expect(parsed.kind === 'ok' ? parsed.local : null).toBe(local);
    if (parsed.kind === 'invalid') expect(parsed.reason).toMatch(/^it /);
  });
  const label = (length: number): string => 'x'.repeat(length);
  it.each<[string, string | null]>([
    [' Shop.Example. ', 'shop.example'],
    ['bücher.example', 'xn--bcher-kva.example'],
    [`${label(63)}.example`, `${label(63)}.example`],
    [`${label(64)}.example`, null],
    [[label(63), label(63), label(63), label(61)].join('.'), [label(63), label(63), label(63), label(61)].join('.')],
    [[label(63), label(63), label(63), label(62)].join('.'), null],
    ['', null],
    ['.', null],
    ['shop', null],
    ['a..example', null],
    ['-a.example', null],
    ['a-.example', null],
    ['a_b.example', null],
    ['192.0.2.1', null],
    ['1a.2b', '1a.2b'],
    ['shop.123', null],
    ['shop.1x', 'shop.1x'],
    ['a/b.example', null],
    ['a%41.example', null],
    ['xn--a.example', null],
  ])('the domain %j is %j', (text, name) => {
    const parsed = parseDomain(text);
    expect(parsed.kind === 'ok' ? parsed.ascii : null).toBe(name);
    // What a program wrote is read by the same rules, but for the help that people get.
    if (/^[\x21-\x7e]+$/.test(text) && name !== null) expect(domainName(text)).toBe(name);
    if (name === null && /^[\x21-\x7e]*$/.test(text) && !text.startsWith('xn--')) expect(domainName(text), text).toBeNull();
  });
  it.each<[string, boolean, string, string, string]>([
    ['192.0.2.25', true, '192.0.2.25', '192.0.2.25', '192.0.2.0/24'],
    ['2001:db8:1:2:3:4:5:6', true, '2001:db8:1:2:3:4:5:6', '2001:db8:1:2::/64', '2001:db8:1::/48'],
    ['::ffff:192.0.2.25', true, '192.0.2.25', '192.0.2.25', '192.0.2.0/24'],
    ['2001:db8:1:2::/64', false, '2001:db8:1:2::/64', '2001:db8:1:2::/64', '2001:db8:1::/48'],
    ['192.0.2', false, '192.0.2', '192.0.2', '192.0.2'],
    ['3221226009', false, '3221226009', '3221226009', '3221226009'],
    ['shop.example', false, 'shop.example', 'shop.example', 'shop.example'],
  ])('the address %s stands for itself, its 64 bits, its network', (text, isAddress, plain, whose, wide) => {
    expect([isIpAddress(text), plainAddress(text), whoseAddress(text), wideAddress(text)]).toEqual([isAddress, plain, whose, wide]);
  });
});

describe('a command', () => {
  const NONE = { size: null, body: '7BIT', smtputf8: false, returnContent: null, envelopeId: null };
  const mail = (parameters: object = {}, sender: object | null = { local: 'a', domain: 'b.example' }) => ({
    verb: 'MAIL',
    args: { sender, parameters: { ...NONE, ...parameters } },
  });
  const rcpt = (parameters: object = {}, recipient: object = { local: 'a', domain: 'b.example' }) => ({
    verb: 'RCPT',
    args: { recipient, parameters: { notify: null, original: null, ...parameters } },
  });
  const WRONG = {
    verb: REPLIES.unknownCommand,
    argument: REPLIES.badArgument(''),
    sender: REPLIES.badSenderAddress(''),
    recipient: REPLIES.badAddress(''),
    utf8: REPLIES.utf8NotAsked,
  };
  const bad = (of: keyof typeof WRONG) => ({ refused: of });
  it.each<[string, object]>([
    ['EHLO mx.example', { verb: 'EHLO', args: 'mx.example' }],
    ['helo  mx.example ', { verb: 'HELO', args: 'mx.example' }],
    [`EHLO ${'x'.repeat(255)}`, { verb: 'EHLO' }],
    [`EHLO ${'x'.repeat(256)}`, bad('argument')],
    ['EHLO', bad('argument')],
    ['EHLO a b', bad('argument')],
    ['MAIL FROM:<>', mail({}, null)],
    ['mail from: <a@b.example>', mail()],
    ['MAIL FROM:<@x.example,@y.example:a@b.example>', mail()],
    ['MAIL FROM:<a@b.example>  SIZE=1000   BODY=8bitmime', mail({ size: 1000, body: '8BITMIME' })],
    [
      'MAIL FROM:<a@b.example> BODY=7BIT RET=hdrs ENVID=x+2By SMTPUTF8',
      mail({ returnContent: 'HDRS', envelopeId: 'x+2By', smtputf8: true }),
    ],
    ['MAIL FROM:<a@b.example> RET=FULL AUTH=<>', mail({ returnContent: 'FULL' })],
    [`MAIL FROM:<a@b.example> ENVID=${'x'.repeat(100)}`, mail({ envelopeId: 'x'.repeat(100) })],
    [`MAIL FROM:<a@b.example> ENVID=${'x'.repeat(101)}`, bad('argument')],
    ['MAIL FROM:<a@b.example> ENVID=x+y', bad('argument')],
    ['MAIL FROM:<a@b.example> SIZE=x1', bad('argument')],
    ['MAIL FROM:<a@b.example> SIZE=1x', bad('argument')],
    ['MAIL FROM:<a@b.example> SIZE=', bad('argument')],
    ['MAIL FROM:<a@b.example> BODY=BINARYMIME', bad('argument')],
    ['MAIL FROM:<a@b.example> BODY=x7BIT', bad('argument')],
    ['MAIL FROM:<a@b.example> BODY=7BITx', bad('argument')],
    ['MAIL FROM:<a@b.example> RET=HDRSx', bad('argument')],
    ['MAIL FROM:<a@b.example> RET=xFULL', bad('argument')],
    ['MAIL FROM:<a@b.example> SMTPUTF8=1', bad('argument')],
    ['MAIL FROM:<a@b.example> SIZE=1 size=2', bad('argument')],
    ['MAIL FROM:<a@b.example> FOO=8BITMIME', bad('argument')],
    ['MAIL FROM:<a@b.example> FOO', bad('argument')],
    ['MAIL FROM:a@b.example', bad('argument')],
    ['MAIL TO:<a@b.example>', bad('argument')],
    ['MAIL FROM:<a..b@b.example>', bad('sender')],
    ['MAIL FROM:<\u00c3\u00b1@b.example>', bad('utf8')],
    ['MAIL FROM:<\u00c3\u00b1@b.example> SMTPUTF8', mail({ smtputf8: true }, { local: 'ñ', domain: 'b.example' })],
    ['MAIL FROM:<\u00f1@b.example> SMTPUTF8', bad('sender')],
    ['RCPT TO:<a@b.example>', rcpt()],
    ['RCPT TO:<a@b.example> NOTIFY=never', rcpt({ notify: ['NEVER'] })],
    [
      'RCPT TO:<a@b.example> notify=SUCCESS,DELAY,SUCCESS ORCPT=rfc822;x+40y',
      rcpt({ notify: ['SUCCESS', 'DELAY'], original: 'rfc822;x+40y' }),
    ],
    ['RCPT TO:<a@b.example> NOTIFY=NEVER,DELAY', bad('argument')],
    ['RCPT TO:<a@b.example> NOTIFY=SUCCESS,NEVER', bad('argument')],
    ['RCPT TO:<a@b.example> NOTIFY=', bad('argument')],
    ['RCPT TO:<a@b.example> NOTIFY=SUCCESS,OFTEN', bad('argument')],
    ['RCPT TO:<a@b.example> NOTIFY=SUCCESS NOTIFY=DELAY', bad('argument')],
    ['RCPT TO:<a@b.example> ORCPT=rfc822;x ORCPT=rfc822;y', bad('argument')],
    ['RCPT TO:<a@b.example> ORCPT=rfc822', bad('argument')],
    ['RCPT TO:<a@b.example> ORCPT=;x', bad('argument')],
    ['RCPT TO:<a@b.example> ORCPT=rf_c;x', bad('argument')],
    ['RCPT TO:<a@b.example> ORCPT=_rfc;x', bad('argument')],
    [`RCPT TO:<a@b.example> ORCPT=rfc822;${'x'.repeat(493)}`, rcpt({ original: `rfc822;${'x'.repeat(493)}` })],
    [`RCPT TO:<a@b.example> ORCPT=rfc822;${'x'.repeat(494)}`, bad('argument')],
    ['RCPT TO:<a@b.example> ORCPT=rfc822;a;b', rcpt({ original: 'rfc822;a;b' })],
    ['RCPT TO:<a@b.example> FOO=x', bad('argument')],
    ['RCPT TO:<>', bad('recipient')],
    ['RCPT TO:<PostMaster>', rcpt({}, { postmasterAt: null })],
    ['RCPT TO:<postmaster@[192.0.2.25]>', rcpt({}, { postmasterAt: '192.0.2.25' })],
    ['RCPT TO:<postmaster@[IPv6:2001:db8::1]> NOTIFY=NEVER', rcpt({ notify: ['NEVER'] }, { postmasterAt: '2001:db8::1' })],
    ['RCPT TO:<xpostmaster@[192.0.2.25]>', bad('recipient')],
    ['RCPT TO:<\u00c3\u00b1@b.example>', rcpt({}, { local: 'ñ', domain: 'b.example' })],
    ['RCPT TO:<"a b"@b.example>', rcpt({}, { local: 'a b', domain: 'b.example' })],
    ['RCPT TO:<"a>b"@b.example>', rcpt({}, { local: 'a>b', domain: 'b.example' })],
    ['AUTH plain', { verb: 'AUTH', args: { mechanism: 'PLAIN', initial: null } }],
    ['AUTH PLAIN   AGEAYg==', { verb: 'AUTH', args: { mechanism: 'PLAIN', initial: 'AGEAYg==' } }],
    ['AUTH', bad('argument')],
    ['BDAT 10', { verb: 'BDAT', args: { size: 10, last: false } }],
    ['BDAT 0  last', { verb: 'BDAT', args: { size: 0, last: true } }],
    ['BDAT', bad('argument')],
    ['BDAT x1', bad('argument')],
    ['BDAT 1 FIRST', bad('argument')],
    ['BDAT 1LAST', bad('argument')],
    ['BDAT 1234567890123456', bad('argument')],
    ['ETRN shop.example', { verb: 'ETRN', args: 'shop.example' }],
    ['ETRN', bad('argument')],
    ['DATA', { verb: 'DATA' }],
    ['data ', { verb: 'DATA' }],
    ['DATA now', bad('argument')],
    ['RSET', { verb: 'RSET' }],
    ['QUIT x', bad('argument')],
    ['STARTTLS', { verb: 'STARTTLS' }],
    ['NOOP anything', { verb: 'NOOP' }],
    ['HELP', { verb: 'HELP' }],
    ['VRFY ana', { verb: 'VRFY' }],
    ['EXPN list', bad('verb')],
    ['', bad('verb')],
  ])('%j is read', (line, expected) => {
    const command = readCommand(line);
    if ('refused' in expected) {
      const { code, status } = WRONG[expected.refused as keyof typeof WRONG];
      expect(command).toMatchObject({ refusal: { code, status, text: expect.stringMatching(/\w/) } });
    } else expect('verb' in command && { verb: command.verb.name, args: command.args }).toMatchObject(expected);
  });
});

describe('chunks', () => {
  const read = (pieces: (string | Buffer)[], most = 100_000) => {
    const reader = new ChunkReader(most);
    for (const piece of pieces) reader.push(Buffer.from(piece));
    const { content, defect } = reader.end();
    return defect ?? content.toString();
  };
  it('make one text of lines, ended where the last one was not', () => {
    expect(read(['a\r', '\nb\r\n'])).toBe('a\r\nb\r\n');
    expect(read(['a\r\nb'])).toBe('a\r\nb\r\n');
    expect(read([])).toBe('');
    expect(read(['\r\n'])).toBe('\r\n');
  });
  it('with bare line ends, lines without end, or too much of it are no text', () => {
    for (const wrong of ['a\nb', 'a\rb', '\n', 'a\r\r\n', 'a\n\r\n', 'a\r'])
      expect(read([wrong]), JSON.stringify(wrong)).toBe('bare-line-end');
    expect(read(['a\r', 'b'])).toBe('bare-line-end');
    expect(read(['x'.repeat(LONGEST_TEXT_LINE)])).toBe(`${'x'.repeat(LONGEST_TEXT_LINE)}\r\n`);
    expect(read(['x'.repeat(LONGEST_TEXT_LINE), 'x'])).toBe('line-too-long');
    expect(read([`${'x'.repeat(LONGEST_TEXT_LINE)}\r\n`, 'y'.repeat(LONGEST_TEXT_LINE), '\r\n'])).toContain('yy');
    expect(read(['x'.repeat(50), '\r\n'], 40)).toBe('too-big');
    // The first defect stays, whatever comes behind it.
    expect(read(['a\nb', 'x'.repeat(200_000)])).toBe('bare-line-end');
    const spoilt = new ChunkReader(100);
    spoilt.spoil('no-space');
    spoilt.push(Buffer.from('a\nb'));
    expect(spoilt.end()).toEqual({ content: Buffer.alloc(0), defect: 'no-space' });
  });
});

describe('the octets that all messages hold together', () => {
  const MIB = 1024 * 1024;
  const opened = () => {
    const clock = { now: 0 };
    const budget = new OctetBudget(10 * MIB, () => clock.now);
    const gone: string[] = [];
    const open = (name: string) => budget.open(() => gone.push(name));
    return { clock, budget, gone, open };
  };
  it('are counted, up to the last one', () => {
    const { budget, open } = opened();
    const [one, other] = [open('one'), open('other')];
    expect(one.resize(4 * MIB)).toBe(true);
    expect(other.resize(6 * MIB)).toBe(true);
    expect(budget.used).toBe(10 * MIB);
    expect(other.resize(6 * MIB + 1)).toBe(false);
    expect(budget.used).toBe(10 * MIB);
    expect(one.resize(0)).toBe(true);
    expect(other.resize(10 * MIB)).toBe(true);
    expect(other.resize(1)).toBe(true);
    expect(budget.used).toBe(1);
  });
  it('are given up by who has stood still the longest, for ten seconds at least, and holds enough to be worth it', () => {
    const { clock, budget, gone, open } = opened();
    const [small, old, young] = [open('small'), open('old'), open('young')];
    small.resize(MIB / 2 - 1);
    clock.now = 1000;
    old.resize(MIB / 2);
    clock.now = 2000;
    young.resize(9 * MIB);
    const asking = open('asking');
    clock.now = 10_999;
    expect([asking.resize(MIB), gone]).toEqual([false, []]);
    clock.now = 11_000;
    // Half a mebibyte is not enough for it: the next one is not stale.
    expect([asking.resize(MIB), gone]).toEqual([false, ['old']]);
    clock.now = 12_000;
    expect([asking.resize(MIB), gone]).toEqual([true, ['old', 'young']]);
    expect(budget.used).toBe(MIB + MIB / 2 - 1);
    // Who has given up holds nothing, and may begin anew.
    expect(young.resize(MIB)).toBe(true);
  });
  it('nobody pushes himself out, and who gets on is not stale', () => {
    const { clock, gone, open } = opened();
    const [one, other] = [open('one'), open('other')];
    one.resize(5 * MIB);
    other.resize(4 * MIB);
    clock.now = 20_000;
    expect(one.resize(6 * MIB)).toBe(true);
    expect([other.resize(11 * MIB), gone]).toEqual([false, []]);
    clock.now = 29_999;
    expect([open('new').resize(MIB), gone]).toEqual([true, ['other']]);
  });
});
