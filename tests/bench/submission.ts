import { closeSync, fsyncSync, mkdirSync, openSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { PROJECT } from '../../src/project.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { messageText, startBench, submitAll } from './service.ts';

const WARM = 300;
/** Long enough that texts of the first ones become files while the last ones arrive: what is measured can be kept up. */
const MESSAGES = 10_000;

/** Submissions a second, each answered with 250 after its commit. The recipient is local: what leaves is another row's matter. */
export async function acceptedPerSecond(): Promise<number> {
  const dns = new StandInDns();
  const bench = await startBench(await dns.listen(), '');
  await submitAll(bench.talks, WARM, 'li@shop.example');
  const begun = performance.now();
  await submitAll(bench.talks, MESSAGES, 'li@shop.example');
  const seconds = (performance.now() - begun) / 1000;
  await bench.stop();
  dns.close();
  return MESSAGES / seconds;
}

const WRITES = 400;

/** The plain way on the same disk: create a file, fsync it and its folder, commit a row; one after the other. */
export async function durableWrites(): Promise<number> {
  const folder = join(PROJECT, '.bench-plain');
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder);
  const db = new SQLite(join(folder, 'plain.db'));
  db.pragma('journal_mode = WAL');
  db.pragma('synchronous = FULL');
  db.exec('CREATE TABLE message (id INTEGER PRIMARY KEY, name TEXT NOT NULL)');
  const insert = db.prepare('INSERT INTO message (name) VALUES (?)');
  const handle = openSync(folder, 'r');
  const text = Buffer.from(messageText('plain'));
  const begun = performance.now();
  for (let at = 0; at < WRITES; at += 1) {
    const file = openSync(join(folder, `m${at}`), 'wx');
    writeSync(file, text);
    fsyncSync(file);
    closeSync(file);
    fsyncSync(handle);
    insert.run(`m${at}`);
  }
  const seconds = (performance.now() - begun) / 1000;
  closeSync(handle);
  db.close();
  rmSync(folder, { recursive: true, force: true });
  return WRITES / seconds;
}
