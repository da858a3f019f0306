import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Followed } from '../../src/core/followed.ts';
import { Resolver } from '../../src/dns/resolver.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { StandInProvider } from '../../src/standins/provider.ts';
import { StandInRelay } from '../../src/standins/relay.ts';
import { type House, openHouse, PASSWORD } from './house.ts';
import { Talk } from './talk.ts';

/** A house with providers and a smart host around it, over real sockets. */
export interface Town {
  house: House;
  open: StandInProvider;
  slow: StandInProvider;
  relay: StandInRelay;
  /** What leads to them, for the configuration of another program. */
  ways: { dial: string; mail: string };
  /** Talks to port 25 as from that address. */
  from(address: string): Promise<Talk>;
  /** A talk on port 465, signed in. */
  signedIn(user: string): Promise<Talk>;
  /** Resolves when some attempt of the journey is written down. */
  attempted(id: string): Promise<void>;
  close(): Promise<void>;
}

export const RELAY = { name: 'relay.example', address: '203.0.113.40', user: 'house', password: 'a long relay password' };

export async function openTown(options: { mail?: string; maxMib?: number; lists?: string; followed?: Followed } = {}): Promise<Town> {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-town-'));
  const certificate = await loadCertificate(null, folder, 'mx.provider.example');
  const relayCertificate = await loadCertificate(null, folder, RELAY.name);
  let dial = '';
  let resolver: Resolver | null = null;
  const lookup: Resolver['lookup'] = (name, type) => (resolver as Resolver).lookup(name, type);
  const provider = async (name: string, temper: 'open' | 'slow', address: string): Promise<StandInProvider> => {
    const one = new StandInProvider(`${name}.example`, temper, lookup, certificate);
    dial += `[[dial]]\nto = "${address}:25"\nthrough = "127.0.0.1:${await one.listen()}"\nproxy = true\n`;
    return one;
  };
  const open = await provider('open', 'open', '203.0.113.20');
  const slow = await provider('slow', 'slow', '203.0.113.30');
  const relay = new StandInRelay(RELAY.name, RELAY, relayCertificate);
  dial += `[[dial]]\nto = "${RELAY.address}:587"\nthrough = "127.0.0.1:${await relay.listen()}"\nproxy = true\n`;
  const roots = `trusted_roots = ${JSON.stringify(join(folder, 'tls', `${RELAY.name}.pem`))}`;
  const mail = `${options.mail ?? 'greet_after_ms = 0'}\n${roots}`;
  const house = await openHouse({
    dial,
    mail,
    ...(options.maxMib ? { maxMib: options.maxMib } : {}),
    ...(options.lists ? { lists: options.lists } : {}),
    ...(options.followed ? { followed: options.followed } : {}),
  });
  for (const [name, address] of [
    ['open', '203.0.113.20'],
    ['slow', '203.0.113.30'],
  ] as const) {
    house.dns.publish({ name: `${name}.example`, type: 'MX', value: `10 mx.${name}.example` });
    house.dns.publish({ name: `mx.${name}.example`, type: 'A', value: address });
  }
  house.dns.publish({ name: RELAY.name, type: 'A', value: RELAY.address });
  resolver = new Resolver({ servers: [{ address: '127.0.0.1', port: house.dnsPort }], timeoutMs: 2000, tries: 2, now: Date.now });
  return {
    house,
    open,
    slow,
    relay,
    ways: { dial, mail },
    from: async (address) => {
      const family = address.includes(':') ? 'TCP6' : 'TCP4';
      const talk = await Talk.to(house.ports.claimed, {
        first: `PROXY ${family} ${address} ${family === 'TCP6' ? '2001:db8:25::25' : '192.0.2.25'} 40000 25\r\n`,
      });
      await talk.say(null);
      return talk;
    },
    signedIn: async (user) => {
      const talk = await Talk.to(house.ports.submissions, { tls: true });
      await talk.say(null);
      await talk.say('EHLO client.example');
      const reply = await talk.say(`AUTH PLAIN ${Buffer.from(`\0${user}\0${PASSWORD}`).toString('base64')}`);
      if (!reply.startsWith('235')) throw new Error(reply);
      return talk;
    },
    attempted: (id) =>
      new Promise((resolve) => {
        const { signals } = house.service.context;
        const look = (done: string): void => {
          if (done !== id) return;
          signals.off('attempted', look);
          resolve();
        };
        signals.on('attempted', look);
      }),
    close: async () => {
      await house.close();
      for (const one of [open, slow, relay]) one.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** One message over an open talk; the last reply. */
export async function send(
  talk: Talk,
  from: string,
  to: string | string[],
  text = `From: ${from}\r\nSubject: x\r\n\r\nx\r\n`,
  mail = '',
): Promise<string> {
  const sender = await talk.say(`MAIL FROM:<${from}>${mail}`);
  if (!sender.startsWith('250')) return sender;
  let last = '';
  let taken = 0;
  for (const one of [to].flat()) {
    last = await talk.say(one.startsWith('<') ? `RCPT TO:${one}` : `RCPT TO:<${one}>`);
    if (last.startsWith('250')) taken += 1;
  }
  if (taken === 0) {
    await talk.say('RSET');
    return last;
  }
  await talk.say('DATA');
  return talk.say(`${text}.`);
}

export const idOf = (reply: string): string => /Accepted as (\S+)/.exec(reply)?.[1] ?? '';
