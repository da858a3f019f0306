import { type ChildProcess, spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { connect as connectPlain } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, createServer, type TLSSocket } from 'node:tls';
import { startService } from '../../src/compose/running-service.ts';
import { outlineOf } from '../../src/core/mime/outline.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { PROJECT } from '../../src/project.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import { addCustomer, addPlan } from '../../src/service/directory/customers.ts';
import { addDomain } from '../../src/service/directory/domains.ts';
import { addMailbox } from '../../src/service/directory/mailboxes.ts';
import { operate } from '../../src/service/mailbox/operate.ts';
import { addFolder, addMessages, findFolderNamed } from '../../src/store/folders.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { keepOutline } from '../../src/store/outlines.ts';
import { DATABASE_FILE, ReadDatabase } from '../../src/store/read-database.ts';
import { SearchIndex } from '../../src/store/search-index.ts';
import { PLAN } from '../support/context.ts';
import { CONNECTIONS, PASSWORD, signIn, submitAll } from './service.ts';

const PORTS = { submissions: 24_466, imaps: 24_993, web: 24_026 };
const FOLDER = join(PROJECT, '.bench-mailboxes');
const FEW = 1000;
const MANY = 100_000;
const A_PIECE = 2000;
const LARGE = 20_000_000;
/** Mailboxes over which many sessions are spread. */
const PEOPLE = 60;

/** A program that reads octets as fast as they come, and keeps only their number and their end. */
class Reader {
  private tail = '';
  private octets = 0;
  private waiting: { mark: string; resolve: (octets: number) => void } | null = null;
  private heard: (() => void) | null = null;

  private constructor(private readonly socket: TLSSocket) {
    socket.on('data', (bytes: Buffer) => {
      this.octets += bytes.length;
      this.tail = (this.tail + bytes.toString('latin1', Math.max(0, bytes.length - 2000))).slice(-3000);
      this.heard?.();
      if (!this.waiting || !this.tail.includes(this.waiting.mark)) return;
      const { resolve } = this.waiting;
      this.waiting = null;
      resolve(this.octets);
    });
  }

  /** The `number`-th: each address may have so many connections only. */
  static async open(port: number, number = 0): Promise<Reader> {
    const plain = connectPlain({ port, host: '127.0.0.1', localAddress: `127.0.2.${1 + Math.floor(number / 150)}` });
    await once(plain, 'connect');
    const socket = connect({ socket: plain, rejectUnauthorized: false });
    await once(socket, 'secureConnect');
    return new Reader(socket);
  }

  /** Sends something; resolves with the octets that came until a mark was among the last of them. */
  ask(text: string, mark: string): Promise<number> {
    this.octets = 0;
    this.tail = '\r\n';
    return new Promise((resolve) => {
      this.waiting = { mark, resolve };
      this.socket.write(text);
    });
  }

  /** When anything comes next. */
  next(): Promise<void> {
    return new Promise((resolve) => {
      this.heard = () => {
        this.heard = null;
        resolve();
      };
    });
  }

  async command(command: string): Promise<number> {
    return this.ask(`x ${command}\r\n`, '\r\nx OK ');
  }

  async signIn(local: string): Promise<void> {
    await this.ask(`x LOGIN ${local}@shop.example "${PASSWORD}"\r\n`, 'x OK ');
  }

  end(): void {
    this.socket.destroy();
  }
}

interface House {
  pid: number;
  stop(): Promise<void>;
}

/** A message about something, whose text lies where texts lie. */
function keptText(about: string): { file: string; text: Buffer } {
  const text = Buffer.from(
    `From: Person ${about} <p@far.example>\r\nTo: ana@shop.example\r\nSubject: About ${about}\r\nMessage-ID: <${about}@far.example>\r\nDate: Mon, 1 Jun 2026 10:00:00 +0200\r\n\r\n${`What there is to say of ${about}, at some length. `.repeat(20)}\r\n`,
  );
  const file = createHash('sha256').update(text).digest('hex');
  writeFileSync(join(FOLDER, 'data/messages/recent', file), text);
  return { file, text };
}

/** The built service with a mailbox that has a folder of a hundred thousand messages, one of a thousand, and one large message. */
async function openMailboxes(): Promise<House> {
  rmSync(FOLDER, { recursive: true, force: true });
  mkdirSync(FOLDER, { recursive: true });
  const listener = (service: keyof typeof PORTS): string =>
    `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${PORTS[service]}\n`;
  const text = [
    `data = "data"\n[host]\nname = "mail.host.example"\naddresses = ["192.0.2.25"]\npostmaster = "ana@shop.example"\n`,
    `[dns]\nresolvers = ["127.0.0.1:9"]\n[log]\nlevel = "error"\n[access]\nprocesses = 1\n`,
    listener('submissions'),
    listener('imaps'),
    listener('web'),
  ].join('\n');
  const file = join(FOLDER, 'tenedor.toml');
  writeFileSync(file, text);
  const seeding = await startService(parseConfig(text.replace('processes = 1', 'processes = 0'), file, FOLDER));
  const { context } = seeding;
  const { db } = context;
  await addPlan(context, { name: 'open', ...PLAN, quotaBytes: 1024 ** 4, mostMailboxes: 100, indexTexts: true });
  await addCustomer(context, 'Bench');
  await addDomain(context, { name: 'shop.example', customer: 'Bench', plan: 'open', role: 'home' });
  for (const local of ['ana', 'li', ...Array.from({ length: PEOPLE }, (_one, at) => `p${at}`)])
    await addMailbox(context, { address: `${local}@shop.example`, password: PASSWORD, quotaBytes: null });
  const id = findMailbox(db, 'ana', 'shop.example')?.id ?? 0;
  for (const [name, count] of [
    ['Few', FEW],
    ['Many', MANY],
  ] as const) {
    const folder = await db.commit(() => addFolder(db, id, { name, specialUse: null, keepDays: null }));
    for (let at = 0; at < count; at += A_PIECE)
      await db.commit(() => {
        const some = Array.from({ length: Math.min(A_PIECE, count - at) }, (_one, place) => keptText(`${name}${at + place}`));
        addMessages(
          db,
          folder,
          some.map((one) => ({
            flags: 1,
            keywords: '',
            internalDate: at,
            savedAt: at,
            size: one.text.length,
            prefix: '',
            file: one.file,
            outlineId: null,
            journeyId: null,
          })),
        );
        for (const { file, text } of some) keepOutline(db, file, outlineOf(text));
      });
  }
  const large = Buffer.from(`Subject: large\r\n\r\n${`${'x'.repeat(76)}\r\n`.repeat(Math.ceil(LARGE / 78))}`).subarray(0, LARGE);
  if (!findFolderNamed(db, id, 'Archive')) throw new Error('no folder');
  await operate(context, id, {
    kind: 'append',
    to: 'Archive',
    messages: [{ text: large, flags: 1, keywords: '', internalDate: 1 }],
    instead: null,
  });
  await seeding.stop();
  const child = spawn(join(PROJECT, 'tenedor'), ['serve', '--config', file], { stdio: ['ignore', 'ignore', 'pipe'] });
  await once(child.stderr, 'data');
  await indexed(id);
  return {
    pid: child.pid ?? 0,
    stop: async () => {
      child.kill('SIGTERM');
      await once(child, 'exit');
      rmSync(FOLDER, { recursive: true, force: true });
    },
  };
}

/** When the index of the large folder has come to its end. */
async function indexed(mailboxId: number): Promise<void> {
  const db = ReadDatabase.open(join(FOLDER, 'data', DATABASE_FILE));
  const index = new SearchIndex(join(FOLDER, 'data'));
  for (const name of ['Few', 'Many']) {
    const { id, nextUid } = findFolderNamed(db, mailboxId, name) ?? { id: 0, nextUid: 0 };
    const begun = performance.now();
    while ((index.state(id)?.uid ?? 0) < nextUid - 1) await new Promise((resolve) => setTimeout(resolve, 200));
    if (name === 'Many') process.stderr.write(`indexed in ${Math.round((performance.now() - begun) / 1000)} s\n`);
  }
  index.close();
  db.close();
}

let opened: Promise<House> | null = null;
/** One house for all rows, as it takes long to fill. */
const house = (): Promise<House> => {
  opened ??= openMailboxes();
  return opened;
};
export const closeMailboxes = async (): Promise<void> => (await opened)?.stop();

const reader = async (local = 'ana', number = 0): Promise<Reader> => {
  await house();
  const made = await Reader.open(PORTS.imaps, number);
  await made.signIn(local);
  return made;
};
/** So many programs, of different people, that look at their Inbox. */
async function readers(count: number): Promise<Reader[]> {
  const all: Reader[] = [];
  // Some at a time: passwords are compared one after the other.
  for (let at = 0; at < count; at += PEOPLE)
    all.push(
      ...(await Promise.all(Array.from({ length: Math.min(PEOPLE, count - at) }, (_one, place) => reader(`p${place}`, at + place)))),
    );
  for (const one of all) await one.command('SELECT INBOX');
  return all;
}
const timed = async (work: () => Promise<unknown>): Promise<number> => {
  const begun = performance.now();
  await work();
  return performance.now() - begun;
};

/** Microseconds a message of SELECT and FETCH of all UIDs and flags. */
async function selectTime(folder: 'Few' | 'Many'): Promise<number> {
  const one = await reader();
  const ms = await timed(async () => {
    await one.command(`SELECT ${folder}`);
    await one.command('FETCH 1:* (UID FLAGS)');
  });
  one.end();
  return (ms * 1000) / (folder === 'Few' ? FEW : MANY);
}
export const selectMany = (): Promise<number> => selectTime('Many');
export const selectFew = (): Promise<number> => selectTime('Few');

/** Milliseconds of a search in the subjects, or the texts, of a folder. */
async function searchTime(folder: 'Few' | 'Many', key: 'SUBJECT' | 'TEXT'): Promise<number> {
  const one = await reader();
  await one.command(`SELECT ${folder}`);
  const ms = await timed(() => one.command(`SEARCH ${key} "nothing of the kind"`));
  one.end();
  return ms;
}
export const searchMany = (): Promise<number> => searchTime('Many', 'SUBJECT');
export const searchFew = (): Promise<number> => searchTime('Few', 'SUBJECT');
export const searchTextsOfMany = (): Promise<number> => searchTime('Many', 'TEXT');
export const searchTextsOfFew = (): Promise<number> => searchTime('Few', 'TEXT');

/** Octets a second of all envelopes and structures. */
export async function envelopeRate(): Promise<number> {
  const one = await reader();
  await one.command('SELECT Many');
  let octets = 0;
  const ms = await timed(async () => {
    octets = await one.command('FETCH 1:* (UID FLAGS ENVELOPE BODYSTRUCTURE)');
  });
  one.end();
  return (octets / ms) * 1000;
}

/** Octets a second of one large message. */
export async function largeRate(): Promise<number> {
  const one = await reader();
  await one.command('SELECT Archive');
  let octets = 0;
  const ms = await timed(async () => {
    octets = await one.command('FETCH 1 BODY.PEEK[]');
  });
  one.end();
  return (octets / ms) * 1000;
}

const PIECE = 64 * 1024;

/** A TLS server that writes as many octets as it is asked for, from memory; says its port, and runs until it is killed. */
export async function serveOctets(): Promise<never> {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-octets-'));
  const { cert, key } = await loadCertificate(null, folder, 'mail.host.example');
  rmSync(folder, { recursive: true });
  const piece = Buffer.alloc(PIECE, 'x');
  const server = createServer({ cert, key, minVersion: 'TLSv1.2' }, (socket) => {
    socket.on('error', () => {});
    socket.on('data', async (asked) => {
      for (let left = Number(String(asked)); left > 0; left -= PIECE)
        if (!socket.write(piece.subarray(0, Math.min(PIECE, left)))) await once(socket, 'drain');
      socket.write('\r\nx OK \r\n');
    });
  });
  server.listen(0, '127.0.0.1', () => process.stdout.write(`${(server.address() as { port: number }).port}\n`));
  return new Promise(() => {});
}

/** Octets a second of so many over a bare TLS socket. */
export async function bareRate(): Promise<number> {
  const child: ChildProcess = spawn(process.execPath, [join(PROJECT, 'dist/bench.mjs'), 'octet-server'], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const [said] = await once(child.stdout as NodeJS.ReadableStream, 'data');
  const one = await Reader.open(Number(String(said)));
  await one.ask('1000000', '\r\nx OK ');
  let octets = 0;
  const ms = await timed(async () => {
    for (let part = 0; part < 3; part += 1) octets += await one.ask(String(LARGE), '\r\nx OK ');
  });
  one.end();
  child.kill('SIGKILL');
  return (octets / ms) * 1000;
}

/** Milliseconds from the 250 of a message to the news of it at the program that waits for it, while so many wait. */
async function newsTime(count: number): Promise<number> {
  // One looks at the mailbox that gets the message; the others have theirs.
  const watching = await reader('li');
  await watching.command('SELECT INBOX');
  const all = [watching, ...(await readers(count - 1))];
  for (const one of all) await one.ask('i IDLE\r\n', '+ ');
  const talk = await signIn(PORTS.submissions);
  const times: number[] = [];
  for (let round = 0; round < 15; round += 1) {
    let heardAt = 0;
    const heard = watching.next().then(() => {
      heardAt = performance.now();
    });
    await submitAll([talk], 1, 'li@shop.example');
    const acceptedAt = performance.now();
    await heard;
    times.push(Math.max(0.1, heardAt - acceptedAt));
  }
  for (const one of all) one.end();
  talk.end();
  return times.sort((one, other) => one - other)[7] ?? 0;
}
export const newsToMany = (): Promise<number> => newsTime(1000);
export const newsToOne = (): Promise<number> => newsTime(1);

/** Submissions a second over fifty connections, with so many programs beside them that read and mark. */
async function acceptedBeside(busy: number): Promise<number> {
  await house();
  const all = await readers(busy);
  for (const one of all) await one.command('APPEND INBOX {4+}\r\ntext');
  let isOver = false;
  const work = all.map(async (one) => {
    for (let round = 0; !isOver; round += 1) {
      await one.command('FETCH 1:* (UID FLAGS ENVELOPE)');
      await one.command(`UID STORE 1 ${round % 2 === 0 ? '+' : '-'}FLAGS.SILENT (\\Answered)`);
      await new Promise((resolve) => setTimeout(resolve, 1000));
    }
    one.end();
  });
  const talks = await Promise.all(Array.from({ length: CONNECTIONS }, () => signIn(PORTS.submissions)));
  await submitAll(talks, 500, 'li@shop.example');
  const ms = await timed(() => submitAll(talks, 4000, 'li@shop.example'));
  isOver = true;
  await Promise.all(work);
  for (const talk of talks) talk.end();
  return (4000 / ms) * 1000;
}
export const acceptedAlone = (): Promise<number> => acceptedBeside(0);
export const acceptedBesideReaders = (): Promise<number> => acceptedBeside(200);

/** Octets of memory that a process holds, by the system. */
function residentOf(pid: number): number {
  return Number(/^VmRSS:\s+(\d+)/m.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1]) * 1024;
}
const childOf = (pid: number): number =>
  readdirSync('/proc')
    .map(Number)
    .find((one) => one > 0 && Number(readStat(one)[1]) === pid) ?? 0;
const readStat = (pid: number): string[] => {
  try {
    return readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]?.split(' ') ?? [];
  } catch {
    return [];
  }
};

const SESSIONS = 5000;
/** Octets of memory that a program which waits costs its process. */
export async function memoryOfSession(): Promise<number> {
  const { pid } = await house();
  const child = childOf(pid);
  const warm = await readers(20);
  const before = residentOf(child);
  const all = await readers(SESSIONS);
  const octets = (residentOf(child) - before) / SESSIONS;
  for (const one of [...all, ...warm]) one.end();
  return octets;
}

/** The same of a bare TLS server that answers what it is asked. */
export async function memoryOfBare(): Promise<number> {
  const child: ChildProcess = spawn(process.execPath, [join(PROJECT, 'dist/bench.mjs'), 'octet-server'], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const [said] = await once(child.stdout as NodeJS.ReadableStream, 'data');
  const open = (number: number): Promise<Reader> => Reader.open(Number(String(said)), number);
  const warm = await Promise.all(Array.from({ length: 20 }, (_one, at) => open(at)));
  for (const one of warm) await one.ask('100', '\r\nx OK ');
  const before = residentOf(child.pid ?? 0);
  const all: Reader[] = [];
  for (let at = 0; at < SESSIONS; at += 50) all.push(...(await Promise.all(Array.from({ length: 50 }, (_one, place) => open(at + place)))));
  for (const one of all) await one.ask('100', '\r\nx OK ');
  const octets = (residentOf(child.pid ?? 0) - before) / SESSIONS;
  for (const one of [...all, ...warm]) one.end();
  child.kill('SIGKILL');
  return octets;
}
