import { spawn } from 'node:child_process';
import { createSocket } from 'node:dgram';
import { once } from 'node:events';
import { mkdirSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import packet, { type Packet } from 'dns-packet';
import { startService } from '../../src/compose/running-service.ts';
import { composeSheet } from '../../src/core/records/sheet.ts';
import { askUdp } from '../../src/dns/transport.ts';
import { PROJECT } from '../../src/project.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import { addCustomer, addPlan } from '../../src/service/directory/customers.ts';
import { newKeyPair } from '../../src/service/directory/signing-keys.ts';
import { checkAll } from '../../src/service/dns/check-runs.ts';
import { readQuery } from '../../src/standins/dns-port.ts';
import { NAME_SERVER, StandInDns } from '../../src/standins/dns-server.ts';
import { findCustomer, findPlan } from '../../src/store/customers.ts';
import { addDomain } from '../../src/store/domains.ts';
import { addKey } from '../../src/store/keys.ts';
import { PLAN } from '../support/context.ts';

const FOLDER = join(PROJECT, '.bench-lookups');
const HOST = { name: 'mail.host.example', addresses: ['192.0.2.25', '2001:db8:25::25'] };
/** As many bare questions at once as keep the machine busy. */
const AT_ONCE = 80;
/** Of a reply over UDP. */
const LARGEST = 1232;
const nameOf = (number: number): string => `d${number}.example`;

/** Answers each question as the stand-in did the first time, so that the server is not what is measured. Resolves with the port; `asked` counts. */
async function answerFromMemory(dns: StandInDns, asked: Map<string, number>): Promise<number> {
  const replies = new Map<string, { question: string; reply: Buffer }>();
  const socket = createSocket('udp4');
  socket.on('message', (octets, from) => {
    const key = octets.toString('latin1', 2);
    let known = replies.get(key);
    if (!known) {
      const query = readQuery(octets);
      const reply = query && dns.answer(query, LARGEST);
      if (!reply) return;
      known = { question: `${query.question.type} ${query.question.name}`, reply };
      replies.set(key, known);
    }
    asked.set(known.question, (asked.get(known.question) ?? 0) + 1);
    const reply = Buffer.from(known.reply);
    octets.copy(reply, 0, 0, 2);
    socket.send(reply, from.port, from.address);
  });
  await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
  return socket.address().port;
}

/** Answers for the host and that many domains, whose key comes on standard input; prints its port, then for each line what it was asked since the last. */
export async function serveZones(domains: number): Promise<never> {
  const dns = new StandInDns();
  for (const zone of ['example', 'in-addr.arpa', 'ip6.arpa']) dns.addZone(zone);
  const asked = new Map<string, number>();
  let publicKey = '';
  process.stdin.on('data', (bytes) => {
    if (publicKey === '') {
      publicKey = String(bytes).trim();
      for (let number = 0; number < domains; number += 1)
        dns.typeIn(
          ...composeSheet({ domain: nameOf(number), host: HOST, keys: [{ selector: 'k1', type: 'rsa', publicKey }], stage: 'none' }),
        );
      void answerFromMemory(dns, asked).then((port) => process.stdout.write(`${port}\n`));
    } else {
      process.stdout.write(`${JSON.stringify([...asked])}\n`);
      asked.clear();
    }
  });
  return new Promise(() => {});
}

/** Look-ups a second: by a check of every domain (cold caches, both views, findings stored), and by bare questions to the same server. */
export async function lookupRates(domains: number, rounds: number): Promise<{ checking: number[]; bare: number[] }> {
  const server = spawn(process.execPath, [join(PROJECT, 'dist/bench.mjs'), 'name-server', String(domains)], {
    stdio: ['pipe', 'pipe', 'inherit'],
  });
  const lines = createInterface({ input: server.stdout });
  const tell = async (text: string): Promise<string> => {
    server.stdin.write(`${text}\n`);
    return String((await once(lines, 'line'))[0]);
  };
  const questions = async (): Promise<string[]> =>
    (JSON.parse(await tell('asked')) as [string, number][]).flatMap(([question, times]) => Array<string>(times).fill(question));
  const pair = await newKeyPair('rsa');
  const port = Number(await tell(pair.publicKey));
  rmSync(FOLDER, { recursive: true, force: true });
  mkdirSync(FOLDER, { recursive: true });
  const config = [
    `data = "data"\n[host]\nname = "${HOST.name}"\naddresses = ${JSON.stringify(HOST.addresses)}\npostmaster = "ana@${nameOf(0)}"\n`,
    `[[listener]]\nservice = "web"\naddress = "127.0.0.1"\nport = 0\n`,
    `[dns]\nresolvers = ["127.0.0.1:${port}"]\n[log]\nlevel = "warn"\n[checks]\nevery_minutes = 0\n`,
    `[[dial]]\nto = "${NAME_SERVER.address}:53"\nthrough = "127.0.0.1:${port}"\n`,
  ].join('\n');
  const service = await startService(parseConfig(config, 'bench.toml', FOLDER));
  const { context } = service;
  await addPlan(context, { name: 'open', ...PLAN, quotaBytes: 1, mostMailboxes: 1 });
  await addCustomer(context, 'Bench');
  await context.db.commit(() => {
    const customerId = findCustomer(context.db, 'Bench')?.id ?? 0;
    const planId = findPlan(context.db, 'open')?.id ?? 0;
    for (let number = 0; number < domains; number += 1) {
      const id = addDomain(context.db, { name: nameOf(number), customerId, planId, role: 'home' }, 0);
      addKey(context.db, id, { ...pair, selector: 'k1', state: 'active' }, 0);
    }
  });
  const rates = { checking: [] as number[], bare: [] as number[] };
  for (let round = 0; round <= rounds; round += 1) {
    await questions();
    let begun = performance.now();
    const summary = await checkAll(context);
    const seconds = (performance.now() - begun) / 1000;
    if (!summary.domains.every((one) => one.good)) throw new Error('the bench’s own records are not good');
    const asked = await questions();
    begun = performance.now();
    await askBare(port, asked);
    // The first round warms the code up.
    if (round === 0) continue;
    rates.checking.push(asked.length / seconds);
    rates.bare.push(asked.length / ((performance.now() - begun) / 1000));
  }
  await service.stop();
  server.kill();
  rmSync(FOLDER, { recursive: true, force: true });
  return rates;
}

/** Asks the same questions, so many at once as there is nothing else to do. */
async function askBare(port: number, questions: readonly string[]): Promise<void> {
  let next = 0;
  await Promise.all(
    Array.from({ length: AT_ONCE }, async () => {
      for (let question = questions[next++]; question !== undefined; question = questions[next++]) {
        const [type, name = ''] = question.split(' ');
        const query: Packet = {
          type: 'query',
          id: next % 65_536,
          flags: packet.RECURSION_DESIRED,
          questions: [{ type: type as 'TXT', name }],
        };
        const exchange = await askUdp({ address: '127.0.0.1', port }, query, 2000);
        if (exchange.kind === 'failed') throw new Error(exchange.reason);
      }
    }),
  );
}
