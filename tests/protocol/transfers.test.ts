import { createHash } from 'node:crypto';
import { createWriteStream, existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { connect, createServer, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { createServer as createTlsServer } from 'node:tls';
import { pack } from 'tar-stream';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Transfer, TransferDetails } from '../../src/api/transfer-schemas.ts';
import type { ImapOrder } from '../../src/core/transfer/order.ts';
import type { CarriedMessage, Sink } from '../../src/core/transfer/sink.ts';
import { readImap } from '../../src/net/imap-source.ts';
import { whyNot } from '../../src/net/imap-transport.ts';
import { requireMailbox } from '../../src/service/directory/mailboxes.ts';
import { operate } from '../../src/service/mailbox/operate.ts';
import { findFolderNamed, listFolders, listMessages } from '../../src/store/folders.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

const MESSAGES = 130;
/** Text that no compression makes short. */
const noise = (number: number): string =>
  Array.from({ length: number }, (_one, line) => createHash('sha256').update(`${number} ${line}`).digest('base64')).join('\r\n');
let house: House;
let folder: string;

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-transfers-'));
  house = await openHouse();
  await house.provide('old.example', ['ana', 'leo']);
  await house.provide('new.example', ['ana', 'leo', 'mar', 'pau']);
  const old = await openProgram(house.ports.imaps, 'ana@old.example');
  await old.mailboxCreate('Obras/Año 2025');
  for (let number = 0; number < MESSAGES; number += 1)
    await old.append(
      number % 2 === 0 ? 'INBOX' : 'Obras/Año 2025',
      `Message-ID: <${number}@old.example>\r\nSubject: ${number}\r\n\r\n${noise(number)}\r\n`,
      number % 3 === 0 ? ['\\Seen', '$Label1'] : [],
      new Date(1_700_000_000_000 + number * 60_000),
    );
  await old.append('Sent', 'Subject: sent\r\n\r\n', ['\\Answered'], new Date(1_700_000_000_000));
  await old.logout();
});
afterAll(async () => {
  await house.close();
  rmSync(folder, { recursive: true, force: true });
});

const idOf = (address: string): number => requireMailbox(house.service.context, address).id;
function contentOf(address: string): string[] {
  const { db } = house.service.context;
  return listFolders(db, idOf(address)).flatMap((one) =>
    listMessages(db, one.id, 1, one.nextUid, 1000).map((message) =>
      [one.name, message.file, message.flags, message.keywords, message.internalDate].join('|'),
    ),
  );
}

async function fingerprint(): Promise<string> {
  const pem = house.service.context.certificates.for('mail.host.example')?.pem ?? '';
  const der = Buffer.from(/-----BEGIN CERTIFICATE-----([^-]+)-----END/.exec(pem)?.[1] ?? '', 'base64');
  return createHash('sha256').update(der).digest('hex');
}

async function carried(path: string, body: object): Promise<TransferDetails> {
  const begun = await house.api.call<Transfer>('POST', path, body);
  expect(begun.status, JSON.stringify(begun.body)).toBe(200);
  await house.service.context.transfers.over(begun.body.id);
  return (await house.api.call<TransferDetails>('GET', `/transfers/${begun.body.id}`)).body;
}

const fromOld = async (accounts: object[], more: object = {}): Promise<TransferDetails> =>
  carried('/transfers/import-imap', {
    ...{ host: '127.0.0.1', port: house.ports.imaps, fingerprint: await fingerprint(), accounts, atOnce: 2 },
    ...more,
  });

describe('an import by IMAP', () => {
  it('brings folders, flags and dates, of several accounts; what one has wrong does not hold up the others; twice is harmless', async () => {
    const accounts = [
      { user: 'ana@old.example', password: PASSWORD, into: 'ana@new.example' },
      { user: 'leo@old.example', password: 'wrong', into: 'leo@new.example' },
    ];
    const first = await fromOld(accounts);
    expect(first).toMatchObject({ state: 'partly', taken: MESSAGES + 1, known: 0 });
    expect(first.outcome).toContain('leo@new.example: The server refuses the sign-in');
    expect(contentOf('ana@new.example').sort()).toEqual(contentOf('ana@old.example').sort());
    // What the person has moved or removed here meanwhile stays as it is; what came there since comes, too.
    const { db } = house.service.context;
    const id = idOf('ana@new.example');
    const inbox = findFolderNamed(db, id, 'INBOX')?.id ?? 0;
    await operate(house.service.context, id, { kind: 'move', folder: inbox, uids: [[1, 10]], to: 'Archive' });
    const old = await openProgram(house.ports.imaps, 'ana@old.example');
    await old.append('INBOX', 'Subject: late\r\n\r\n', []);
    // Read and marked there since: it is so here too, but for what was touched here.
    await operate(house.service.context, id, {
      kind: 'flag',
      folder: inbox,
      uids: [[21, 21]],
      change: 'add',
      by: { flags: 2, keywords: '' },
      unchangedSince: null,
    });
    const lock = await old.getMailboxLock('INBOX');
    await old.messageFlagsAdd('5,20:21', ['\\Flagged', 'urgent'], { uid: true });
    lock.release();
    await old.logout();
    const again = await house.api.call<Transfer>('POST', `/transfers/${first.id}/again`);
    await house.service.context.transfers.over(again.body.id);
    expect((await house.api.call<Transfer>('GET', `/transfers/${again.body.id}`)).body).toMatchObject({ taken: 1, known: MESSAGES + 1 });
    expect(contentOf('ana@new.example').filter((one) => one.startsWith('Archive|'))).toHaveLength(10);
    const marked = (uid: number) => listMessages(db, inbox, uid, uid, 1)[0];
    expect(marked(20)).toMatchObject({
      flags: expect.toSatisfy((flags: number) => (flags & 4) === 4),
      keywords: expect.stringContaining('urgent'),
    });
    expect(marked(21)).toMatchObject({ flags: expect.toSatisfy((flags: number) => (flags & 6) === 2) });
    expect(contentOf('ana@new.example').filter((one) => one.startsWith('Archive|') && one.includes('urgent'))).toEqual([]);
    // Nothing became read there by being read here.
    expect(contentOf('ana@old.example').filter((one) => one.includes('|1|'))).toHaveLength(Math.ceil(MESSAGES / 3));
  });

  it('STARTTLS; a certificate that is not trusted, or another than was named, is told with what to do', async () => {
    const account = [{ user: 'ana@old.example', password: PASSWORD, into: 'mar@new.example' }];
    expect(await fromOld(account, { port: house.ports.imap, security: 'starttls' })).toMatchObject({ state: 'done', taken: MESSAGES + 2 });
    const { outcome, state } = await fromOld(account, { fingerprint: null });
    expect({ state, outcome }).toEqual({ state: 'failed', outcome: expect.stringContaining('name the SHA-256 of its certificate') });
    expect(await fromOld(account, { fingerprint: '0'.repeat(64) })).toMatchObject({
      outcome: expect.stringContaining(`its SHA-256 is ${await fingerprint()}`),
    });
  });

  it.each([
    [{ accounts: [] }, 'accounts'],
    [{ host: 'a b' }, 'host'],
    [{ port: 0 }, 'port'],
    [{ fingerprint: 'xyz' }, 'fingerprint'],
    [{ accounts: [{ user: 'a', password: null, into: 'ana@new.example' }] }, 'accounts'],
    [{ accounts: Array(2).fill({ user: 'a', password: 'b', into: 'ana@new.example' }) }, 'accounts'],
    [{ atOnce: 1e9 }, 'atOnce'],
  ])('what can’t be is said before anything begins: %j', async (more, field) => {
    const usual = { host: '127.0.0.1', accounts: [{ user: 'a', password: 'b', into: 'ana@new.example' }] };
    const { status, body } = await house.api.call('POST', '/transfers/import-imap', { ...usual, ...more });
    expect({ status, field: body.field?.split('.')[0] }).toEqual({ status: 422, field });
  });

  it('one that is under way is stopped; an unknown one is none; passwords are in no answer and not in the database as they are', async () => {
    const silent = createServer(() => {}).listen(0, '127.0.0.1');
    await new Promise((resolve) => silent.once('listening', resolve));
    const { port } = silent.address() as { port: number };
    const accounts = [{ user: 'x', password: 'seldom heard words', into: 'pau@new.example' }];
    const { body } = await house.api.call<Transfer>('POST', '/transfers/import-imap', { host: '127.0.0.1', port, accounts });
    expect(JSON.stringify((await house.api.call('GET', `/transfers/${body.id}`)).body)).not.toContain('seldom');
    const { db } = house.service.context;
    expect(db.one<{ asked: string }>('SELECT asked FROM transfer WHERE id = ?', body.id)?.asked).toMatch(/^sealed:/);
    // Only one at a time comes into a mailbox.
    await expect.poll(async () => (await house.api.call<TransferDetails>('GET', `/transfers/${body.id}`)).body.parts.length).toBe(1);
    writeFileSync(join(folder, 'a.eml'), 'Subject: a\r\n\r\n');
    const other = await carried('/transfers/import-files', { path: join(folder, 'a.eml'), into: 'pau@new.example' });
    expect(other).toMatchObject({ state: 'failed', outcome: expect.stringContaining('Other mail is being brought into it') });
    expect((await house.api.call<Transfer>('POST', `/transfers/${body.id}/stop`)).body).toMatchObject({ state: 'stopped' });
    expect(await carried('/transfers/import-files', { path: join(folder, 'a.eml'), into: 'pau@new.example' })).toMatchObject({
      state: 'done',
    });
    silent.close();
    expect((await house.api.call('GET', '/transfers/999')).status).toBe(404);
    expect((await house.api.call('GET', '/transfers/x')).status).toBe(422);
    expect((await house.api.call('POST', `/transfers/${other.id + 1}/resume`)).body).toMatchObject({
      detail: expect.stringContaining('is done'),
    });
  });
});

/** A sink that keeps what comes, and knows what it has. */
function keeping(): Sink & { messages: CarriedMessage[]; faults: (string | null)[]; folders: string[]; missed: string[] } {
  const keys = new Set<string | null>();
  const kept = {
    messages: [] as CarriedMessage[],
    faults: [] as (string | null)[],
    folders: [] as string[],
    missed: [] as string[],
    open: async () => ({ part: 1, isNew: false }),
    known: async (_part: number, asked: readonly string[]) => asked.map((key) => keys.has(key)),
    put: async (_part: number, to: { name: string }, some: readonly CarriedMessage[]) => {
      kept.folders.push(to.name);
      for (const one of some) keys.add(one.key);
      kept.messages.push(...some);
      return { taken: some.length, known: 0, octets: 0, refused: null };
    },
    follow: async () => 0,
    progress: () => {},
    leftOut: (_part: number, folder: string, what: string, why: string) => void kept.missed.push(`${folder}: ${what}: ${why}`),
    close: (_part: number, fault: string | null) => void kept.faults.push(fault),
  };
  return kept;
}

const order = (port: number, more: Partial<ImapOrder> = {}): ImapOrder => ({
  ...{
    kind: 'imap',
    host: '127.0.0.1',
    port,
    security: 'tls',
    fingerprint: null,
    atOnce: 1,
    perSecond: 0,
    master: null,
    untilQuietHours: 0,
  },
  accounts: [{ user: 'ana@old.example', password: PASSWORD, into: 'x' }],
  ...more,
});
const world = (port: number, wait: (ms: number) => Promise<void>) => ({
  ...{ at: { address: '127.0.0.1', port }, roots: null, mostOctets: 1e6, wait },
  now: () => 0,
});

it('a connection that is lost again and again is gone on with from where it was; every message comes once', async () => {
  const sockets = new Set<Socket>();
  const server = createServer((near) => {
    const far = connect(house.ports.imaps, '127.0.0.1');
    let left = 45_000;
    far.on('data', (some) => {
      left -= some.length;
      if (left < 0) near.destroy();
      else near.write(some);
    });
    near.on('data', (some) => far.write(some));
    for (const one of [near, far]) {
      sockets.add(one);
      one.on('error', () => {});
      one.on('close', () => (one === near ? far : near).destroy());
    }
  }).listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  const { port } = server.address() as { port: number };
  const waits: number[] = [];
  const sink = keeping();
  await readImap(
    order(port, { fingerprint: await fingerprint() }),
    world(port, async (ms) => void waits.push(ms)),
    sink,
  );
  expect(sink.faults).toEqual([null]);
  expect(waits.length).toBeGreaterThan(2);
  // The first wait again whenever it got on meanwhile.
  expect(new Set(waits)).toEqual(new Set([5000]));
  expect(sink.messages).toHaveLength(MESSAGES + 2);
  expect(new Set(sink.messages.map((one) => one.key)).size).toBe(MESSAGES + 2);
  server.close();
  for (const one of sockets) one.destroy();
});

it('looks again until nothing has come for so long, and takes each message once', async () => {
  let time = 0;
  const waits: number[] = [];
  const sink = keeping();
  const port = house.ports.imaps;
  const wait = async (ms: number): Promise<void> => {
    waits.push(ms);
    time += ms;
    if (waits.length > 3) return;
    const old = await openProgram(port, 'leo@old.example');
    await old.append('INBOX', `Subject: ${waits.length}\r\n\r\n`);
    await old.logout();
  };
  const accounts = [{ user: 'leo@old.example', password: PASSWORD, into: 'x' }];
  const asked = order(port, { fingerprint: await fingerprint(), untilQuietHours: 1, accounts });
  await readImap(asked, { ...world(port, wait), now: () => time }, sink);
  expect(sink.messages.map((one) => one.text.toString().slice(9, 10))).toEqual(['1', '2', '3']);
  // Three times something came, and then an hour of nothing.
  expect(waits).toEqual(Array(7).fill(900_000));
  expect(sink.faults).toEqual([null]);
});

it('a server that is never there is given up, after waiting longer and longer', async () => {
  const waits: number[] = [];
  const sink = keeping();
  await readImap(
    order(9),
    world(9, async (ms) => void waits.push(ms)),
    sink,
  );
  expect(waits).toEqual([5, 10, 20, 40, 80, 160, 300].map((seconds) => seconds * 1000));
  expect(sink.faults).toEqual([expect.stringContaining('ECONNREFUSED')]);
});

it('what the server says of being busy is heeded; a refused sign-in is final', () => {
  expect(whyNot({ throttleReset: 92_000, message: 'x' })).toMatchObject({ isPassing: true, waitMs: 92_000 });
  expect(whyNot({ authenticationFailed: true, serverResponseCode: 'UNAVAILABLE', message: 'x' })).toMatchObject({ isPassing: true });
  expect(whyNot({ authenticationFailed: true, responseText: 'no\r\n\u001b[1m' })).toEqual({
    ...{ words: 'The server refuses the sign-in: no [1m.', isPassing: false, waitMs: 0 },
  });
  expect(whyNot({ code: 'DEPTH_ZERO_SELF_SIGNED_CERT', message: 'self-signed' })).toMatchObject({ isPassing: false });
});

it('what the server refuses of one folder or message is told, and the rest comes', async () => {
  const { certificates } = house.service.context;
  const held = certificates.for('mail.host.example');
  const server = createTlsServer({ cert: held?.pem ?? '', key: held?.key ?? '' }, (socket) => {
    socket.write('* OK [CAPABILITY IMAP4rev1] ready\r\n');
    socket.on('error', () => {});
    socket.on('data', (some) => {
      for (const line of some.toString().split('\r\n').filter(Boolean)) {
        const [tag = '', command = ''] = line.split(' ');
        const sizes = (uid: number): string =>
          `* ${uid} FETCH (UID ${uid} FLAGS () RFC822.SIZE 14 BODY[HEADER.FIELDS (MESSAGE-ID)] {2}\r\n\r\n)\r\n`;
        const text = (uid: number): string => `* ${uid} FETCH (UID ${uid} BODY[] {14}\r\nSubject: ${uid}\r\n\r\n)\r\n`;
        const ok = `${tag} OK done\r\n`;
        if (command === 'LIST') socket.write(`* LIST () "/" "INBOX"\r\n* LIST () "/" "Closed"\r\n* LIST () "/" "Open"\r\n${ok}`);
        else if (line.includes('Closed')) socket.write(`${tag} NO [NOPERM] not for you\r\n`);
        else if (command === 'EXAMINE') socket.write(`* 3 EXISTS\r\n* OK [UIDVALIDITY 1] ok\r\n* OK [UIDNEXT 4] ok\r\n${ok}`);
        else if (line.includes('UID SEARCH')) socket.write(`* SEARCH 1 2 3\r\n${ok}`);
        else if (line.includes('RFC822.SIZE')) socket.write([1, 2, 3].map(sizes).join('') + ok);
        else if (/UID FETCH (1,2,3|2,3|2) /.test(line)) socket.write(`${line.includes('1,') ? text(1) : ''}${tag} NO it is damaged\r\n`);
        else if (line.includes('UID FETCH')) socket.write(`${text(Number(/FETCH (\d)/.exec(line)?.[1]))}${ok}`);
        else socket.write(ok);
      }
    });
  }).listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  const { port } = server.address() as { port: number };
  const sink = keeping();
  await readImap(
    order(port, { fingerprint: await fingerprint() }),
    world(port, async () => {}),
    sink,
  );
  expect(sink.faults).toEqual([null]);
  expect(sink.messages.map((one) => one.text.toString().trim()).sort()).toEqual(['Subject: 1', 'Subject: 1', 'Subject: 3', 'Subject: 3']);
  expect(sink.missed.sort()).toEqual([
    expect.stringContaining('Closed: the folder, or some of it: The server refuses it: not for you'),
    'INBOX: message 2: The server refuses it: it is damaged.',
    'Open: message 2: The server refuses it: it is damaged.',
  ]);
  server.close();
});

it('a master sign-in is SASL PLAIN with an authorisation identity (RFC 4616), and folders below the Inbox come up from there', async () => {
  const { certificates } = house.service.context;
  const held = certificates.for('mail.host.example');
  const said: string[] = [];
  const server = createTlsServer({ cert: held?.pem ?? '', key: held?.key ?? '' }, (socket) => {
    socket.write('* OK [CAPABILITY IMAP4rev1 AUTH=PLAIN NAMESPACE] ready\r\n');
    socket.on('error', () => {});
    socket.on('data', (some) => {
      for (const line of some.toString().split('\r\n').filter(Boolean)) {
        said.push(line);
        const [tag = '', command = ''] = line.split(' ');
        if (command === 'AUTHENTICATE') socket.write('+ \r\n');
        else if (tag.length > 8) socket.write(`${said.at(-2)?.split(' ')[0]} OK [CAPABILITY IMAP4rev1 NAMESPACE] in\r\n`);
        else if (command === 'CAPABILITY') socket.write(`* CAPABILITY IMAP4rev1 AUTH=PLAIN NAMESPACE\r\n${tag} OK\r\n`);
        else if (command === 'NAMESPACE') socket.write(`* NAMESPACE (("INBOX." ".")) (("Others." ".")) NIL\r\n${tag} OK\r\n`);
        else if (command === 'LIST')
          socket.write(`* LIST () "." "INBOX"\r\n* LIST () "." "INBOX.Work.a/b"\r\n* LIST (\\All) "." "INBOX.All"\r\n${tag} OK\r\n`);
        else if (command === 'EXAMINE')
          socket.write(`* 1 EXISTS\r\n* OK [UIDVALIDITY 1] ok\r\n* OK [UIDNEXT 2] ok\r\n${tag} OK [READ-ONLY]\r\n`);
        else if (line.includes('UID SEARCH')) socket.write(`* SEARCH 1\r\n${tag} OK\r\n`);
        else if (line.includes('RFC822.SIZE'))
          socket.write(
            `* 1 FETCH (UID 1 FLAGS (\\Seen \\Recent \\Strange) RFC822.SIZE 14 BODY[HEADER.FIELDS (MESSAGE-ID)] {2}\r\n\r\n)\r\n${tag} OK\r\n`,
          );
        else if (line.includes('UID FETCH')) socket.write(`* 1 FETCH (UID 1 BODY[] {14}\r\nSubject: x\r\n\r\n)\r\n${tag} OK\r\n`);
        else socket.write(`${tag} OK\r\n`);
      }
    });
  }).listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  const { port } = server.address() as { port: number };
  const sink = keeping();
  const master = { user: 'chief', password: 'of all' };
  const accounts = [{ user: 'leo@old.example', password: null, into: 'x' }];
  await readImap(
    order(port, { fingerprint: await fingerprint(), master, accounts }),
    world(port, async () => {}),
    sink,
  );
  expect(said).toContain(Buffer.from('leo@old.example\0chief\0of all').toString('base64'));
  expect(sink.faults).toEqual([null]);
  expect(sink.folders).toEqual(['INBOX', 'Work/a_b']);
  expect(sink.messages[0]).toMatchObject({ flags: 1, keywords: '' });
  server.close();
});

it('by a thread of its own: out to an archive, and in again', async () => {
  const path = join(folder, 'leo.tar.gz');
  const out = await carried('/transfers/export', { what: 'mailbox', name: 'ana@new.example', path, isArchive: true, form: 'eml' });
  expect(out).toMatchObject({ state: 'done', taken: MESSAGES + 2 });
  expect(existsSync(path)).toBe(true);
  expect(await carried('/transfers/import-files', { path, into: 'leo@new.example' })).toMatchObject({ state: 'done', taken: MESSAGES + 2 });
  expect(contentOf('leo@new.example').sort()).toEqual(contentOf('ana@new.example').sort());
});

it('what of an archive or a folder is not mail that can be taken is told by its name; one file under two names comes twice', async () => {
  const path = join(folder, 'odd.tar');
  const archive = pack();
  const text = 'Subject: odd\r\n\r\nhere\r\n';
  archive.entry({ name: 'Obras/1.eml' }, text);
  archive.entry({ name: 'Kopie/1.eml', type: 'link', linkname: 'Obras/1.eml' });
  archive.entry({ name: 'Kopie/2.eml', type: 'link', linkname: '../../etc/passwd' });
  archive.entry({ name: 'Kopie/3.eml', type: 'symlink', linkname: '/etc/passwd' });
  archive.entry({ name: '../outside.eml' }, text);
  archive.entry({ name: 'pipe', type: 'fifo' });
  archive.entry({ name: '.hidden/1.eml' }, text);
  archive.finalize();
  await pipeline(archive, createWriteStream(path));
  const done = await carried('/transfers/import-files', { path, into: 'pau@new.example' });
  expect(done).toMatchObject({ state: 'partly', taken: 2 });
  const { body } = await house.api.call<TransferDetails>('GET', `/transfers/${done.id}`);
  expect(Object.fromEntries(body.leftOutList.map(({ what, why }) => [what, why]))).toEqual({
    'Kopie/2.eml': expect.stringContaining('second name'),
    'Kopie/3.eml': expect.stringContaining('symbolic link'),
    '../outside.eml': expect.stringContaining('leaves the archive'),
    pipe: expect.stringContaining('pipe'),
    '.hidden': expect.stringContaining('hidden'),
  });
  expect(contentOf('pau@new.example').map((one) => one.split('|')[0])).toEqual(expect.arrayContaining(['Obras', 'Kopie']));
});
