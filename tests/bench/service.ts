import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { startService } from '../../src/compose/running-service.ts';
import { PROJECT } from '../../src/project.ts';
import { addToken } from '../../src/service/access/accounts.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import type { ServiceContext } from '../../src/service/app/context.ts';
import { addCustomer, addPlan } from '../../src/service/directory/customers.ts';
import { addDomain } from '../../src/service/directory/domains.ts';
import { addMailbox } from '../../src/service/directory/mailboxes.ts';
import { PLAN } from '../support/context.ts';
import { Talk } from '../support/talk.ts';

export const PASSWORD = 'a calm harbour';
export const CONNECTIONS = 50;
const PORTS = { submissions: 24_465, web: 24_025 };
const FOLDER = join(PROJECT, '.bench');
export const DATA = join(FOLDER, 'data');

export interface Bench {
  pid: number;
  talks: Talk[];
  /** An API call with an operator's token. */
  call<Body>(method: string, path: string, body?: object): Promise<Body>;
  stop(): Promise<void>;
}

/** A connection with TLS, signed in. */
export async function signIn(port: number): Promise<Talk> {
  const talk = await Talk.to(port, { tls: true });
  await talk.say(null);
  await talk.say('EHLO client.example');
  await talk.say(`AUTH PLAIN ${Buffer.from(`\0ana@shop.example\0${PASSWORD}`).toString('base64')}`);
  return talk;
}

/** Writes a configuration into an empty folder, and what it needs into its data: a plan, a customer, and what `fill` adds. Returns the file. */
export async function seed(folder: string, text: string, fill: (context: ServiceContext) => Promise<void>): Promise<string> {
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  const file = join(folder, 'tenedor.toml');
  writeFileSync(file, text);
  const seeding = await startService(parseConfig(text, file, folder));
  await addPlan(seeding.context, { name: 'open', ...PLAN, quotaBytes: 1024 ** 4, mostMailboxes: 10 });
  await addCustomer(seeding.context, 'Bench');
  await fill(seeding.context);
  await seeding.stop();
  return file;
}

/** Starts the built service as a process of its own, with signed-in connections to it. */
export async function startBench(
  dnsPort: number,
  dial: string,
  fill: (context: ServiceContext) => Promise<void> = async () => {},
): Promise<Bench> {
  const listener = (service: keyof typeof PORTS): string =>
    `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${PORTS[service]}\n`;
  const text = [
    `data = "data"\n[host]\nname = "mail.host.example"\naddresses = ["192.0.2.25"]\npostmaster = "ana@shop.example"\n`,
    `[dns]\nresolvers = ["127.0.0.1:${dnsPort}"]\n[log]\nlevel = "warn"\n`,
    listener('submissions'),
    listener('web'),
    dial,
  ].join('\n');
  let token = '';
  const file = await seed(FOLDER, text, async (context) => {
    await addDomain(context, { name: 'shop.example', customer: 'Bench', plan: 'open', role: 'home' });
    for (const local of ['ana', 'li'])
      await addMailbox(context, { address: `${local}@shop.example`, password: PASSWORD, quotaBytes: null });
    const accountId = context.db.one<{ id: number }>('SELECT id FROM account')?.id ?? 0;
    ({ token } = await addToken(context, { accountId }, 'bench'));
    await fill(context);
  });
  const child = spawn(join(PROJECT, 'tenedor'), ['serve', '--config', file], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  await once(child.stderr, 'data');
  const talks = await Promise.all(Array.from({ length: CONNECTIONS }, () => signIn(PORTS.submissions)));
  return {
    pid: child.pid ?? 0,
    talks,
    call: async <Body>(method: string, path: string, body?: object) => {
      const response = await fetch(`http://127.0.0.1:${PORTS.web}/api/v1${path}`, {
        method,
        headers: { authorization: `Bearer ${token}`, 'content-type': 'application/json' },
        ...(body ? { body: JSON.stringify(body) } : {}),
      });
      if (!response.ok) throw new Error(await response.text());
      return (await response.json()) as Body;
    },
    stop: async () => {
      for (const talk of talks) talk.end();
      child.kill('SIGTERM');
      await once(child, 'exit');
      rmSync(FOLDER, { recursive: true, force: true });
    },
  };
}

const HEADER = 'From: ana@shop.example\r\nTo: somebody\r\nSubject: bench\r\nDate: Mon, 23 Nov 2026 10:00:00 +0000\r\n';

/** One message of about 4 KiB, each different. */
export const messageText = (unique: string): string =>
  `${HEADER}Message-ID: <${unique}@shop.example>\r\n\r\n${`${'x'.repeat(76)}\r\n`.repeat(50)}`;

/** Sends `count` messages over all connections and resolves when the last is answered. */
export async function submitAll(talks: Talk[], count: number, recipient: string): Promise<void> {
  let left = count;
  await Promise.all(
    talks.map(async (talk) => {
      while (left > 0) {
        left -= 1;
        talk.write(`MAIL FROM:<ana@shop.example>\r\nRCPT TO:<${recipient}>\r\nDATA\r\n`);
        await talk.until((text) => text.includes('\r\n354 ') || text.startsWith('354 ') || /^[45]\d\d /m.test(text));
        const reply = await talk.say(`${messageText(`m${left}`)}.`);
        if (!reply.startsWith('250')) throw new Error(reply);
      }
    }),
  );
}
