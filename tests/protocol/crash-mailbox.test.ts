import { once } from 'node:events';
import { readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { expect, it } from 'vitest';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { configText, openHouse, PASSWORD } from '../support/house.ts';
import { startProgram } from '../support/program.ts';
import { Talk } from '../support/talk.ts';
import { send } from '../support/town.ts';

/** The access processes of a service. */
const childrenOf = (pid: number): number[] =>
  readdirSync('/proc')
    .map(Number)
    .filter((one) => one > 0 && parentOf(one) === pid);

function parentOf(pid: number): number {
  try {
    return Number(readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]?.split(' ')[1]);
  } catch {
    return 0;
  }
}

/** One IMAP conversation; every method resolves with the answer, or with null when the connection has gone. */
class Program {
  private tags = 0;

  private constructor(private readonly talk: Talk) {}

  static async open(port: number): Promise<Program | null> {
    const talk = await Talk.to(port, { tls: true }).catch(() => null);
    if (!talk) return null;
    const program = new Program(talk);
    await talk.until((text) => text.includes('\r\n'));
    return (await program.ask(`LOGIN li@shop.example "${PASSWORD}"`)) ? program : null;
  }

  async ask(command: string): Promise<string | null> {
    this.tags += 1;
    const tag = `t${this.tags}`;
    this.talk.write(`${tag} ${command}\r\n`);
    const said = await this.talk.until((text) => new RegExp(`^${tag} (OK|NO|BAD)[^\\n]*\\n`, 'm').test(text)).catch(() => null);
    return said !== null && new RegExp(`^${tag} OK`, 'm').test(said) ? said : null;
  }

  end(): void {
    this.talk.end();
  }
}

/** What was acknowledged, over all crashes. */
class Books {
  /** Subjects by folder and UID, as they were told. */
  readonly uids = new Map<string, string>();
  readonly kept = new Set<string>();
  readonly flagged = new Set<string>();
  /** Those that somebody began to move: they may be here or there. */
  readonly moving = new Set<string>();
  readonly moved = new Set<string>();
  done = 0;

  uid(folder: string, uid: number, subject: string): void {
    const known = this.uids.get(`${folder} ${uid}`);
    // A UID never means another message.
    if (known !== undefined) expect(known).toBe(subject);
    this.uids.set(`${folder} ${uid}`, subject);
    this.done += 1;
  }
}

/** Puts, marks and moves messages, as fast as it is answered, until the connection is gone. */
async function work(port: number, name: string, books: Books): Promise<void> {
  const program = await Program.open(port);
  if (!program || !(await program.ask('SELECT INBOX'))) return;
  for (let round = 0; ; round += 1) {
    const subject = `${name}-${round}`;
    const text = `Subject: ${subject}\r\n\r\n${'x'.repeat(round)}\r\n`;
    const put = await program.ask(`APPEND INBOX {${text.length}+}\r\n${text}`);
    const uid = Number(/APPENDUID \d+ (\d+)/.exec(put ?? '')?.[1] ?? 0);
    if (uid === 0) return program.end();
    books.kept.add(subject);
    books.uid('INBOX', uid, subject);
    if (round % 3 === 0) {
      if (!(await program.ask(`UID STORE ${uid} +FLAGS.SILENT (\\Flagged Keep)`))) return program.end();
      books.flagged.add(subject);
    }
    if (round % 3 === 1) {
      books.moving.add(subject);
      const moved = await program.ask(`UID MOVE ${uid} Archive`);
      const there = Number(/COPYUID \d+ \d+ (\d+)/.exec(moved ?? '')?.[1] ?? 0);
      if (there === 0) return program.end();
      books.moved.add(subject);
      books.uid('Archive', there, subject);
    }
  }
}

/** Sends to the same mailbox by SMTP. */
async function submit(port: number, name: string, books: Books): Promise<void> {
  const talk = await Talk.to(port, { tls: true }).catch(() => null);
  if (!talk) return;
  await talk.say(null);
  await talk.say('EHLO x.example');
  await talk.say(`AUTH PLAIN ${Buffer.from(`\0ana@shop.example\0${PASSWORD}`).toString('base64')}`);
  for (let round = 0; ; round += 1) {
    const subject = `${name}-${round}`;
    const reply = await send(
      talk,
      'ana@shop.example',
      ['li@shop.example'],
      `From: ana@shop.example\r\nSubject: ${subject}\r\n\r\nx\r\n`,
    ).catch(() => '');
    if (!reply.startsWith('250')) return;
    books.kept.add(subject);
    books.done += 1;
  }
}

it('kill -9 of the service and of access processes in the middle of mixed work: nothing acknowledged is lost, no UID is used twice, no flag is gone, both protocols agree', async () => {
  const house = await openHouse();
  await house.provide('shop.example', ['ana', 'li']);
  await house.service.stop();
  const dns = new StandInDns();
  const file = `${house.folder}/tenedor.toml`;
  writeFileSync(file, configText(house.folder, await dns.listen(), { processes: 2 }));
  const books = new Books();
  for (const [round, victim] of ['service', 'access', 'service', 'access'].entries()) {
    const { child, port } = await startProgram(file);
    const before = books.done;
    const all = [
      ...Array.from({ length: 6 }, (_one, at) => work(port('imaps'), `i${round}-${at}`, books)),
      ...Array.from({ length: 2 }, (_one, at) => submit(port('submissions'), `s${round}-${at}`, books)),
    ];
    await expect.poll(() => books.done).toBeGreaterThan(before + 150);
    if (victim === 'access') {
      const [first] = childrenOf(child.pid ?? 0);
      process.kill(first ?? 0, 'SIGKILL');
      // Whoever spoke to it begins again, and is served.
      const isServed = (): boolean => [...books.kept].some((one) => one.startsWith(`again${round}`));
      const again = (async () => {
        // A connection that the dying one had taken is lost, as every program knows it.
        for (let tries = 0; tries < 20 && !isServed(); tries += 1) await work(port('imaps'), `again${round}-${tries}`, books);
      })();
      await expect.poll(isServed).toBe(true);
      all.push(again);
    }
    await expect.poll(() => childrenOf(child.pid ?? 0)).toHaveLength(2);
    const children = childrenOf(child.pid ?? 0);
    child.kill('SIGKILL');
    await once(child, 'exit');
    await Promise.all(all);
    // Those who served go with the service: their ports are free.
    await expect.poll(() => children.filter((pid) => isAlive(pid))).toEqual([]);
  }

  const { child, port } = await startProgram(file);
  const program = (await Program.open(port('imaps'))) as Program;
  const found = new Map<string, { folder: string; uid: number; flags: string }[]>();
  for (const folder of ['INBOX', 'Archive']) {
    await program.ask(`SELECT ${folder}`);
    const said = (await program.ask('UID FETCH 1:* (FLAGS BODY.PEEK[HEADER.FIELDS (SUBJECT)])')) ?? '';
    for (const [, uid = '', flags = '', subject = ''] of said.matchAll(
      /UID (\d+) FLAGS \(([^)]*)\) BODY\[[^\]]*\] \{\d+\}\r\nSubject: (\S+)/g,
    ))
      found.set(subject, [...(found.get(subject) ?? []), { folder, uid: Number(uid), flags }]);
  }
  expect([...books.kept].filter((subject) => found.get(subject)?.length !== 1)).toEqual([]);
  expect([...books.flagged].filter((subject) => !/\\Flagged.*Keep/.test(found.get(subject)?.[0]?.flags ?? ''))).toEqual([]);
  expect([...books.moved].filter((subject) => found.get(subject)?.[0]?.folder !== 'Archive')).toEqual([]);
  for (const [subject, places] of found)
    for (const { folder, uid } of places) expect([undefined, subject]).toContain(books.uids.get(`${folder} ${uid}`));
  // POP3 sees the same Inbox; a message that is removed by it is gone by both.
  const inbox = [...found.values()].flat().filter((one) => one.folder === 'INBOX').length;
  const pop = await Talk.to(port('pop3s'), { tls: true });
  await pop.pop(null);
  await pop.pop('USER li@shop.example');
  expect(await pop.pop(`PASS ${PASSWORD}`)).toBe(`+OK ${inbox} messages\r\n`);
  await pop.pop('DELE 1');
  expect(await pop.pop('QUIT')).toMatch(/^\+OK/);
  await program.ask('SELECT INBOX');
  expect(await program.ask('STATUS INBOX (MESSAGES)')).toContain(`MESSAGES ${inbox - 1}`);
  program.end();
  child.kill('SIGTERM');
  expect(await once(child, 'exit')).toEqual([0, null]);
  dns.close();
  rmSync(house.folder, { recursive: true });
});

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}
