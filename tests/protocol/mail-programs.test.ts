import { execFile } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, beforeEach, expect, it } from 'vitest';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

const run = promisify(execFile);
let house: House;
let folder: string;
beforeAll(async () => {
  house = await openHouse();
  folder = mkdtempSync(join(tmpdir(), 'tenedor-programs-'));
});
afterAll(async () => {
  await house.close();
  rmSync(folder, { recursive: true });
});
let who = '';
let number = 0;
beforeEach(async () => {
  number += 1;
  who = `p${number}@shop.example`;
  await house.provide('shop.example', [`p${number}`]);
});

const python = async (lines: string[]): Promise<unknown> => {
  const begin = [
    'import imaplib, poplib, ssl, json',
    'context = ssl.create_default_context()',
    'context.check_hostname = False',
    'context.verify_mode = ssl.CERT_NONE',
    `user, password = ${JSON.stringify(who)}, ${JSON.stringify(PASSWORD)}`,
  ];
  const { stdout } = await run('/usr/bin/python3', ['-c', [...begin, ...lines].join('\n')]);
  return JSON.parse(stdout);
};

const NEWSLETTER = [
  'From: =?utf-8?q?Caf=C3=A9?= <cafe@far.example>',
  'To: ana@shop.example',
  'Subject: =?iso-8859-1?q?Men=FA?=',
  'Date: Mon, 1 Jun 2026 10:00:00 +0200',
  'Message-ID: <menu@far.example>',
  'MIME-Version: 1.0',
  'Content-Type: multipart/mixed; boundary="=_1"',
  '',
  '--=_1',
  'Content-Type: text/plain; charset=utf-8',
  'Content-Transfer-Encoding: quoted-printable',
  '',
  'Sopa de ma=C3=ADz',
  '--=_1',
  'Content-Type: application/pdf',
  'Content-Disposition: attachment; filename="carta.pdf"',
  'Content-Transfer-Encoding: base64',
  '',
  'JVBERi0xLjQK',
  '--=_1--',
  '',
].join('\r\n');

it('a library for programs (imapflow): folders, structure, search, a download, over a compressed line too', async () => {
  for (const compress of [false, true]) {
    const program = await openProgram(house.ports.imaps, who, { compress });
    await program.append('INBOX', NEWSLETTER, ['\\Flagged'], new Date('2026-06-01T08:00:00Z'));
    await program.mailboxCreate('Menús/2026');
    expect((await program.list()).map((one) => [one.path, one.specialUse ?? ''])).toContainEqual(['Menús/2026', '']);
    await program.mailboxOpen('INBOX');
    const found = await program.search({ subject: 'menú' });
    const [last] = (found || []).slice(-1);
    const message = await program.fetchOne(String(last), {
      envelope: true,
      bodyStructure: true,
      internalDate: true,
      size: true,
      threadId: true,
    });
    expect(message).toMatchObject({
      envelope: { subject: 'Menú', from: [{ name: 'Café', address: 'cafe@far.example' }], messageId: '<menu@far.example>' },
      size: NEWSLETTER.length,
      bodyStructure: {
        type: 'multipart/mixed',
        childNodes: [
          { part: '1', type: 'text/plain' },
          { part: '2', dispositionParameters: { filename: 'carta.pdf' } },
        ],
      },
    });
    const download = await program.download(String(last), '2');
    const octets: Buffer[] = [];
    for await (const piece of download.content ?? []) octets.push(piece as Buffer);
    expect(Buffer.concat(octets).toString()).toBe('%PDF-1.4\n');
    expect(await program.messageMove(String(last), 'Menús/2026')).toMatchObject({ path: 'INBOX', destination: 'Menús/2026' });
    expect(await program.getQuota()).toMatchObject({ storage: { limit: expect.any(Number) } });
    await program.mailboxDelete('Menús/2026');
    await program.logout();
  }
});

it('Python’s imaplib and poplib on one mailbox: both agree on what is there', async () => {
  const result = await python([
    `m = imaplib.IMAP4('127.0.0.1', ${house.ports.imap})`,
    'm.starttls(context)',
    "m.authenticate('PLAIN', lambda _: ('\\0' + user + '\\0' + password).encode())",
    `text = ${JSON.stringify(NEWSLETTER)}.encode()`,
    "for flags in ('(\\\\Seen)', None, '(\\\\Deleted)'): assert m.append('INBOX', flags, None, text)[0] == 'OK'",
    `p = poplib.POP3_SSL('127.0.0.1', ${house.ports.pop3s}, context=context)`,
    'p.user(user); p.pass_(password)',
    'before = p.stat()[0]',
    'octets = p.retr(1)[2]',
    'uids = [one.decode().split()[1] for one in p.uidl()[1]]',
    "m.select('INBOX'); m.expunge()",
    'p.dele(1); p.quit()',
    'm.noop()',
    "left = m.uid('SEARCH', None, 'ALL')[1][0].decode()",
    `q = poplib.POP3_SSL('127.0.0.1', ${house.ports.pop3s}, context=context)`,
    'q.user(user); q.pass_(password)',
    'print(json.dumps([before, octets, len(set(uids)), left, q.stat()[0], [one.decode().split()[1] for one in q.uidl()[1]] == [uids[1]]]))',
    'q.quit(); m.logout()',
  ]);
  expect(result).toEqual([3, NEWSLETTER.length, 3, '2', 1, true]);
});

it('Python’s poplib gets as many octets as LIST and STAT tell, whatever the texts are like (RFC 1939 §11), asked for UTF-8 or not', async () => {
  await house.api.call('PATCH', `/mailboxes/${who}`, { pop3Junk: true });
  const texts = [
    'Subject: Año nuevo\r\nFrom: Ana Núñez <ana@far.example>\r\n\r\nmás\r\n',
    'Subject: unix\nTo: ü@far.example\n\n.one\n\n.two',
    'Subject: no end\r\n\r\nhere',
    '\r\nno header, ü',
  ];
  const result = await python([
    `m = imaplib.IMAP4('127.0.0.1', ${house.ports.imap})`,
    'm.starttls(context); m.login(user, password)',
    `texts = ${JSON.stringify(texts)} + ['Subject: large\\n\\n' + 'line\\n' * 60000]`,
    'for text in texts:',
    "    for folder in ('INBOX', 'Junk'): assert m.append(folder, None, None, text.encode())[0] == 'OK'",
    'def sizes(utf8):',
    `    p = poplib.POP3_SSL('127.0.0.1', ${house.ports.pop3s}, context=context)`,
    '    if utf8: p.utf8()',
    '    p.user(user); p.pass_(password)',
    '    told = [int(one.split()[1]) for one in p.list()[1]]',
    '    sent = [p.retr(at + 1)[2] for at in range(len(told))]',
    '    total = p.stat()[1]; p.quit()',
    '    return [len(told), told == sent, total == sum(sent)]',
    'print(json.dumps([sizes(utf8) for utf8 in (False, True, False)]))',
    'm.logout()',
  ]);
  expect(result).toEqual(Array(3).fill([(texts.length + 1) * 2, true, true]));
});

it('curl lists, puts, searches and fetches', async () => {
  const base = `imaps://127.0.0.1:${house.ports.imaps}`;
  const curl = async (...args: string[]): Promise<string> =>
    (await run('/usr/bin/curl', ['-sk', '--user', `${who}:${PASSWORD}`, ...args])).stdout;
  const file = join(folder, 'menu.eml');
  writeFileSync(file, NEWSLETTER);
  expect(await curl(`${base}/`)).toContain('* LIST (\\Junk \\HasNoChildren) "/" "Junk"');
  await curl('-T', file, `${base}/Archive`);
  expect(await curl(`${base}/Archive?SUBJECT%20Men`)).toBe('* SEARCH 1\r\n');
  expect(await curl(`${base}/Archive;MAILINDEX=1`)).toBe(NEWSLETTER);
  expect(await curl(`${base}/Archive;UID=1;SECTION=1`)).toBe('Sopa de ma=C3=ADz');
  expect(await curl('-X', 'STATUS Archive (MESSAGES)', base)).toBe('* STATUS "Archive" (MESSAGES 1)\r\n');
  expect(await curl(`pop3s://127.0.0.1:${house.ports.pop3s}/`)).toBe('\r\n');
});

it('a synchroniser (mbsync) takes a mailbox away and brings changes back', async () => {
  const program = await openProgram(house.ports.imaps, who);
  for (const subject of ['one', 'two']) await program.append('INBOX', NEWSLETTER.replace('Men=FA', subject), ['\\Seen']);
  const local = join(folder, who);
  mkdirSync(local);
  const pem = join(house.folder, 'data/tls/mail.host.example.pem');
  expect(existsSync(pem)).toBe(true);
  const config = join(folder, `${who}.rc`);
  writeFileSync(
    config,
    [
      'IMAPAccount far',
      'Host 127.0.0.1',
      `Port ${house.ports.imap}`,
      `User ${who}`,
      `Pass "${PASSWORD}"`,
      'SSLType STARTTLS',
      `CertificateFile ${pem}`,
      'AuthMechs PLAIN',
      '',
      'IMAPStore far',
      'Account far',
      '',
      'MaildirStore near',
      `Path ${local}/`,
      `Inbox ${local}/INBOX`,
      'SubFolders Verbatim',
      '',
      'Channel all',
      'Far :far:',
      'Near :near:',
      'Patterns *',
      'Create Both',
      'Expunge Both',
      'SyncState *',
      '',
    ].join('\n'),
    { mode: 0o600 },
  );
  const synchronise = () => run('/usr/bin/mbsync', ['-c', config, '-a', '-q'], { env: { HOME: folder } });
  await synchronise();
  const here = (): string[] => ['cur', 'new'].flatMap((name) => readdirSync(join(local, 'INBOX', name)));
  expect(here()).toHaveLength(2);
  // One is removed here, one is written here, and one is marked there.
  rmSync(join(local, 'INBOX/cur', readdirSync(join(local, 'INBOX/cur'))[0] ?? ''));
  writeFileSync(join(local, 'Drafts/cur', '1700000000.1.here:2,DS'), 'Subject: from here\n\nText\n');
  await program.mailboxOpen('INBOX');
  await program.messageFlagsAdd('2', ['\\Flagged']);
  await synchronise();
  await program.noop();
  expect((await program.fetchAll('1:*', { uid: true, flags: true })).map((one) => [one.uid, [...(one.flags ?? [])].sort()])).toEqual([
    [2, ['\\Flagged', '\\Seen']],
  ]);
  expect(here()).toEqual([expect.stringMatching(/:2,FS$/)]);
  await program.mailboxOpen('Drafts');
  expect((await program.fetchOne('1', { envelope: true, flags: true })) || {}).toMatchObject({ envelope: { subject: 'from here' } });
  await program.logout();
});

it('a reader for the terminal (mutt) shows a folder and files a copy', async () => {
  const program = await openProgram(house.ports.imaps, who);
  await program.append('INBOX', NEWSLETTER);
  const copy = join(folder, 'copy.mbox');
  const settings = [
    `set folder = "imaps://127.0.0.1:${house.ports.imaps}/"`,
    `set spoolfile = "+INBOX"`,
    `set imap_user = "${who}"`,
    `set imap_pass = "${PASSWORD}"`,
    'set ssl_verify_host = no',
    'unset ssl_verify_dates',
    `set certificate_file = "${join(house.folder, 'data/tls/mail.host.example.pem')}"`,
    'set mbox_type = mbox',
    'set confirmappend = no',
    'set confirmcreate = no',
    'unset move',
  ];
  const rc = join(folder, 'rc');
  writeFileSync(rc, settings.join('\n'), { mode: 0o600 });
  await run(
    'script',
    ['-qec', `mutt -n -F ${rc} -e 'push "<copy-message>${copy}<enter><flag-message><sync-mailbox><exit>"'`, '/dev/null'],
    { env: { HOME: folder, TERM: 'xterm', PATH: process.env['PATH'] ?? '' }, timeout: 60_000 },
  );
  expect(readFileSync(copy, 'utf8')).toContain('Message-ID: <menu@far.example>');
  await program.mailboxOpen('INBOX');
  const [one] = await program.fetchAll('1:*', { flags: true });
  expect([...(one?.flags ?? [])]).toContain('\\Flagged');
  await program.logout();
});
