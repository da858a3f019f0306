import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Writable } from 'node:stream';
import type { ProblemDocument } from '../../src/api/schemas.ts';
import { type RunningService, startService } from '../../src/compose/running-service.ts';
import type { Followed } from '../../src/core/followed.ts';
import { addToken } from '../../src/service/access/accounts.ts';
import { type Config, parseConfig } from '../../src/service/app/config.ts';
import { StandInResolver } from '../../src/standins/caching-resolver.ts';
import { NAME_SERVER, StandInDns } from '../../src/standins/dns-server.ts';
import { findAccount } from '../../src/store/accounts.ts';
import { brokenBy } from './document.ts';

export const HOST = { name: 'mail.host.example', addresses: ['192.0.2.25', '2001:db8:25::25'] };
/** A port that nobody listens on, and hosts of this world that are switched off. */
const CLOSED = 9;
const FAR = ['198.51.100.25', '198.51.100.77'];
const MAIL_PORTS = [25, 110, 143, 465, 587, 993, 995];
const SERVICES = ['smtp', 'submission', 'submissions', 'pop3', 'pop3s', 'imap', 'imaps', 'web'] as const;

export interface House {
  folder: string;
  dns: StandInDns;
  /** Between the service and the zones, when the house was opened with `caching`. */
  resolver: StandInResolver;
  service: RunningService;
  ports: Record<(typeof SERVICES)[number] | 'claimed' | 'claimedSubmissions', number>;
  api: Api;
  token: string;
  dnsPort: number;
  log: string[];
  /** A domain with a plan and customer, and mailboxes with the password `PASSWORD`. */
  provide(domain: string, mailboxes?: string[]): Promise<void>;
  close(): Promise<void>;
}

export const PASSWORD = 'a calm harbour';

export interface ApiAnswer<T> {
  status: number;
  type: string;
  body: T;
}

/** Raw calls, with the answer whatever it is. */
export interface Api {
  url: string;
  call<T = ProblemDocument>(method: string, path: string, body?: unknown, headers?: Record<string, string>): Promise<ApiAnswer<T>>;
  /** The rows of a list, as far as one page goes. */
  list<Row>(path: string): Promise<Row[]>;
}

export function configText(
  folder: string,
  dnsPort: number,
  options: {
    port?: (service: string) => number;
    dial?: string;
    maxMib?: number;
    resolverPort?: number;
    mail?: string;
    lists?: string;
    processes?: number;
    hostName?: string;
    addresses?: readonly string[];
    /** Further lines of the configuration. */
    more?: string;
  } = {},
): string {
  const port = options.port ?? (() => 0);
  const listener = (service: string, proxy: boolean): string =>
    `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${proxy ? 0 : port(service)}\nproxy = ${proxy}\n`;
  return [
    `data = ${JSON.stringify(join(folder, 'data'))}\n[host]\nname = "${options.hostName ?? HOST.name}"\naddresses = ${JSON.stringify(options.addresses ?? HOST.addresses)}\npostmaster = "post@house.example"\n`,
    `[dns]\nresolvers = ["127.0.0.1:${options.resolverPort ?? dnsPort}"]\ntimeout_ms = 1000\n${options.lists ?? ''}\n[mail]\nmax_message_mib = ${options.maxMib ?? 1}\n${options.mail ?? 'greet_after_ms = 0'}\n[log]\nlevel = "info"\n`,
    ...SERVICES.map((service) => listener(service, false)),
    listener('smtp', true),
    listener('submissions', true),
    `[checks]\nevery_minutes = 0\n`,
    `[access]\nprocesses = ${options.processes ?? 0}\n`,
    '[outgoing]\nto_this_machine = true\n',
    `[[dial]]\nto = "${NAME_SERVER.address}:53"\nthrough = "127.0.0.1:${dnsPort}"\n`,
    options.dial ?? '',
    options.more ?? '',
    // Documentation addresses lead nowhere, and nobody is to wait for that: refused at once, where a test has not said otherwise before.
    ...[...new Set([...(options.addresses ?? []), ...HOST.addresses, ...FAR])].flatMap((address) =>
      MAIL_PORTS.map(
        (one) => `[[dial]]\nto = "${address.includes(':') ? `[${address}]` : address}:${one}"\nthrough = "127.0.0.1:${CLOSED}"\n`,
      ),
    ),
  ].join('\n');
}

export function apiAt(url: string, token: string | null): Api {
  const api: Api = {
    url,
    list: async <Row>(path: string) => (await api.call<{ rows: Row[] }>('GET', path)).body.rows,
    call: async (method, path, body, headers = {}) => {
      const response = await fetch(`${url}/api/v1${path}`, {
        method,
        headers: {
          ...(token === null ? {} : { authorization: `Bearer ${token}` }),
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
          ...headers,
        },
        ...(body === undefined ? {} : { body: typeof body === 'string' ? body : JSON.stringify(body) }),
      });
      const type = response.headers.get('content-type') ?? '';
      const answer = (await response.json()) as never;
      // Every answer of every test is held to the document.
      const broken = brokenBy(method, path, response.status, type, answer);
      if (broken !== null) throw new Error(broken);
      return { status: response.status, type, body: answer };
    },
  };
  return api;
}

/** A service of its own on free ports, with a name server beside it. */
export async function openHouse(
  options: {
    dial?: string;
    maxMib?: number;
    caching?: boolean;
    mail?: string;
    lists?: string;
    followed?: Followed;
    processes?: number;
    hostName?: string;
    addresses?: readonly string[];
    /** The name server of another house, instead of one of its own. */
    resolverPort?: number;
    /** Where its own name server listens. */
    dnsPort?: number;
    /** Further lines of the configuration; listeners in it have the last ports. */
    more?: string;
  } = {},
): Promise<House> {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-test-'));
  const dns = new StandInDns();
  for (const zone of ['example', 'in-addr.arpa', 'ip6.arpa']) dns.addZone(zone);
  const dnsPort = await dns.listen(options.dnsPort ?? 0);
  const resolver = new StandInResolver({ address: '127.0.0.1', port: dnsPort }, Date.now);
  const resolverPort = options.resolverPort ?? (options.caching ? await resolver.listen() : dnsPort);
  const log: string[] = [];
  const logTo = new Writable({
    write: (bytes, _coding, done) => {
      log.push(String(bytes));
      done();
    },
  });
  const file = join(folder, 'tenedor.toml');
  writeFileSync(file, configText(folder, options.resolverPort ?? dnsPort, { ...options, resolverPort }));
  const readConfig = (): Config => parseConfig(readFileSync(file, 'utf8'), file, folder);
  const service = await startService(readConfig(), {
    logTo,
    readConfig,
    ...(options.followed ? { followed: options.followed } : {}),
  });
  const { context } = service;
  // How busy a machine is that runs tests is no news of the service: the overview would tell it.
  context.loop.stop();
  const ports = Object.fromEntries(
    [...SERVICES, 'claimed', 'claimedSubmissions'].map((name, at) => [name, service.ports[at] ?? 0]),
  ) as House['ports'];
  const account = findAccount(context.db, 'operator');
  if (!account) throw new Error('no account');
  const { token } = await addToken(context, { accountId: account.id }, 'tests');
  const api = apiAt(`http://127.0.0.1:${ports.web}`, token);
  const must = async (method: string, path: string, body: unknown): Promise<void> => {
    const { status, body: answer } = await api.call(method, path, body);
    if (status >= 400 && answer.code !== 'exists-already') throw new Error(answer.detail);
  };
  return {
    folder,
    dns,
    resolver,
    service,
    ports,
    api,
    token,
    dnsPort,
    log,
    provide: async (domain, mailboxes = []) => {
      await must('POST', '/plans', { name: 'standard', limits: [] });
      await must('POST', '/customers', { name: 'Customer' });
      await must('POST', '/domains', { name: domain, customer: 'Customer' });
      await Promise.all(mailboxes.map((local) => must('POST', '/mailboxes', { address: `${local}@${domain}`, password: PASSWORD })));
    },
    close: async () => {
      await service.stop();
      resolver.close();
      dns.close();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
