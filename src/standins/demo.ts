import { once } from 'node:events';
import { createWriteStream, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { createServer as createNetServer } from 'node:net';
import { join } from 'node:path';
import { CommandError, EXIT } from '../cli/errors.ts';
import { keepSignIn } from '../cli/kept-sign-ins.ts';
import { Resolver } from '../dns/resolver.ts';
import { type Certificate, loadCertificate } from '../net/certificate.ts';
import type { RunningService } from '../running-service.ts';
import { addToken } from '../service/access/accounts.ts';
import { type Config, parseConfig } from '../service/app/config.ts';
import { findAccount } from '../store/accounts.ts';
import { StandInResolver } from './caching-resolver.ts';
import type { World } from './demo-world.ts';
import { NAME_SERVER, StandInDns } from './dns-server.ts';
import { lookServer } from './look-page.ts';
import { bring, submit } from './mail-client.ts';
import { StandInProvider } from './provider.ts';
import { StandInRelay } from './relay.ts';
import { openReserve } from './reserve.ts';
import { DEMO_PASSWORD, seedChecks, seededRandom, seedLockout, seedProvisioning } from './seed.ts';
import { seedHistory } from './seed-traffic.ts';
import { runTour } from './tour.ts';
import { BLOCK_LIST, DOMAINS, HOST, PROVIDERS, RELAY, RESERVE } from './world.ts';

export interface DemoSettings {
  /** Where the demo keeps everything; emptied at each start. */
  folder: string;
  tour: boolean;
  startService: (config: Config, options?: { logTo?: NodeJS.WritableStream; holdChecks?: boolean }) => Promise<RunningService>;
  /** The built command line, which the tour runs. */
  program: string;
}

/** Where the world finds them. */
const PUBLIC_PORTS = { smtp: 25, submission: 587, submissions: 465, pop3: 110, pop3s: 995 } as const;
/** The ports of the demo's service; in the tour any free ones. */
const PORTS = { smtp: 2525, submission: 2587, submissions: 2465, pop3: 2110, pop3s: 2995, web: 8025, look: 8026, reserve: 8027 };

/** Starts name server, providers and service in a new folder, with its data. */
export async function startWorld(
  settings: Pick<DemoSettings, 'folder' | 'startService'>,
  ports: Omit<typeof PORTS, 'look' | 'reserve'>,
  history: boolean,
): Promise<World> {
  rmSync(settings.folder, { recursive: true, force: true });
  mkdirSync(settings.folder, { recursive: true, mode: 0o700 });
  const dns = new StandInDns();
  const dnsPort = await dns.listen();
  const caching = new StandInResolver({ address: '127.0.0.1', port: dnsPort }, Date.now);
  const resolverPort = await caching.listen();
  const resolver = new Resolver({ servers: [{ address: '127.0.0.1', port: dnsPort }], timeoutMs: 1000, tries: 2, now: Date.now });
  const certificate: Certificate = await loadCertificate(null, join(settings.folder, 'providers'), 'mx.providers.example');
  const providers = PROVIDERS.map(
    (one) =>
      new StandInProvider(
        one.domain,
        one.temper,
        (name, type) => {
          // Each message is judged by what is published at that moment.
          resolver.forget();
          return resolver.lookup(name, type);
        },
        certificate,
      ),
  );
  const dial: string[] = [];
  for (const [at, provider] of providers.entries())
    dial.push(`[[dial]]\nto = "${PROVIDERS[at]?.address}:25"\nthrough = "127.0.0.1:${await provider.listen()}"\nproxy = true\n`);
  const relayCertificate = await loadCertificate(null, join(settings.folder, 'relay'), RELAY.name);
  const relay = new StandInRelay(RELAY.name, RELAY, relayCertificate);
  dial.push(`[[dial]]\nto = "${RELAY.address}:${RELAY.port}"\nthrough = "127.0.0.1:${await relay.listen()}"\nproxy = true\n`);
  const webPort = ports.web === 0 ? await freePort() : ports.web;
  // Known beforehand, so that the reserve server finds the primary again after a stop.
  const claimed = { smtp: await freePort(), submissions: await freePort(), reserve: await freePort() };
  const listener = (service: string, port: number, proxy = false): string =>
    `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${port}\nproxy = ${proxy}\n`;
  const text = [
    '# Written by the demo at each start.',
    'data = "data"\n',
    `[host]\nname = "${HOST.name}"\naddresses = ${JSON.stringify(HOST.addresses)}\npostmaster = "${HOST.postmaster}"\nstandby = ["${RESERVE.name}"]\n`,
    `[dns]\nresolvers = ["127.0.0.1:${resolverPort}"]\nblock_lists = ["${BLOCK_LIST}"]\n`,
    `[mail]\ngreet_after_ms = 200\ntrusted_roots = ${JSON.stringify(join(settings.folder, 'relay/tls', `${RELAY.name}.pem`))}\n`,
    '[log]\nlevel = "info"\n',
    listener('smtp', claimed.smtp, true),
    listener('submissions', claimed.submissions, true),
    listener('web', webPort),
    listener('smtp', ports.smtp),
    listener('submission', ports.submission),
    listener('submissions', ports.submissions),
    listener('pop3', ports.pop3),
    listener('pop3s', ports.pop3s),
    ...dial,
    `[[dial]]\nto = "${NAME_SERVER.address}:53"\nthrough = "127.0.0.1:${dnsPort}"\n`,
    ...(['smtp', 'submission', 'submissions', 'pop3', 'pop3s'] as const)
      .filter((name) => ports[name] !== 0)
      .map((name) => `[[dial]]\nto = "${HOST.addresses[0]}:${PUBLIC_PORTS[name]}"\nthrough = "127.0.0.1:${ports[name]}"\n`),
    `[[dial]]\nto = "${RESERVE.address}:25"\nthrough = "127.0.0.1:${claimed.reserve}"\nproxy = true\n`,
  ].join('\n');
  const file = join(settings.folder, 'tenedor.toml');
  writeFileSync(file, text);
  const logTo = createWriteStream(join(settings.folder, 'service.log'));
  const service = await settings.startService(parseConfig(text, file, settings.folder), {
    logTo,
    // Until the world is as it should be, nobody is to look at it.
    holdChecks: true,
  });
  const { context } = service;
  await seedProvisioning(context, dns);
  if (history) {
    await seedHistory(context, seededRandom(7));
    await seedChecks(context, dns, () => caching.forget());
    await seedLockout(context);
  }
  const webUrl = `http://127.0.0.1:${service.ports[2]}`;
  const accessFile = join(settings.folder, 'client.json');
  const account = findAccount(context.db, 'operator');
  rmSync(accessFile, { force: true });
  if (account)
    keepSignIn(
      { account: 'operator', url: webUrl, token: (await addToken(context, { accountId: account.id }, 'demo command line')).token },
      accessFile,
    );
  const reserve = await openReserve({
    folder: join(settings.folder, 'reserve'),
    startService: settings.startService,
    resolverPort,
    dnsPort,
    smtpPort: claimed.reserve,
    webPort: ports.web === 0 ? 0 : PORTS.reserve,
    primaryPort: claimed.smtp,
    logTo,
  });
  const close = async (): Promise<void> => {
    await world.service.stop();
    await reserve.service.stop();
    relay.close();
    for (const provider of providers) provider.close();
    caching.close();
    dns.close();
    logTo.end();
  };
  const world: World = {
    service,
    reserve,
    relay,
    stopPrimary: () => world.service.stop(),
    startPrimary: async () => {
      world.service = await settings.startService(parseConfig(text, file, settings.folder), { logTo, holdChecks: true });
    },
    dns,
    resolver: caching,
    providers,
    claimed,
    webUrl,
    accessFile,
    close,
  };
  return world;
}

/** A port of this machine that nobody uses at the moment. */
async function freePort(): Promise<number> {
  const probe = createNetServer().listen(0, '127.0.0.1');
  await once(probe, 'listening');
  const { port } = probe.address() as { port: number };
  probe.close();
  await once(probe, 'close');
  return port;
}

export async function runDemo(settings: DemoSettings): Promise<void> {
  if (settings.tour) {
    const folder = join(settings.folder, '..', '.demo-tour');
    const world = await startWorld({ ...settings, folder }, { smtp: 0, submission: 0, submissions: 0, pop3: 0, pop3s: 0, web: 0 }, false);
    const good = await runTour(world, settings.program);
    await world.close();
    rmSync(folder, { recursive: true, force: true });
    if (!good) process.exitCode = EXIT.notGood;
    return;
  }
  // Before anything of a demo that may be running is touched.
  await requireFreePorts(Object.values(PORTS));
  process.stdout.write(
    'Starting the demo world: a name server, three mail providers, a smart host, and two Tenedors with seven customers …\n',
  );
  const world = await startWorld(settings, PORTS, true);
  await exchangeMail(world);
  world.service.startChecks();
  const look = lookServer({ dns: world.dns, providers: () => lookInto(world), domains: DOMAINS.map((one) => one.domain) });
  look.listen(PORTS.look, '127.0.0.1');
  await once(look, 'listening');
  const code = world.service.firstSignIn?.code ?? '';
  process.stdout.write(`
The demo is up: mail.faroquieto.example, run by the small provider Faro Quieto.

  Console      ${world.webUrl}/
  Sign in as   operator, with the one-time code  ${code}
               (you choose a password with it; for one click: ${world.webUrl}/sign-in#${code})
  Mail         SMTP 2525 · submission 2587 (STARTTLS), 2465 (TLS) · POP3 2110 (STLS), 2995 (TLS)
               user ana@olmobakery.example, password ${DEMO_PASSWORD} (every demo mailbox has it)
  Providers    what northpost, openbay and slowtide received: http://127.0.0.1:${PORTS.look}/
  Reserve      the second server, a Tenedor of its own: ${world.reserve.webUrl}/, one-time code  ${world.reserve.service.firstSignIn?.code ?? ''}
  DNS          the customers’ own DNS forms, to type records into: http://127.0.0.1:${PORTS.look}/zones

Three commands to try, in this folder:

  ./tenedor --demo status
  ./tenedor --demo check rutaverde.example               (then mend it: records publish rutaverde.example)
  ./tenedor --demo brake list                            (then: brake release news@imprentalunar.example)

All commands: ./tenedor --help     The log: .demo/service.log     Stop: Ctrl-C
`);
  let stopping = false;
  const stop = (): void => {
    if (stopping) return;
    stopping = true;
    look.close();
    look.closeAllConnections();
    world.close().then(
      () => process.exit(0),
      () => process.exit(EXIT.refused),
    );
  };
  process.on('SIGINT', stop);
  process.on('SIGTERM', stop);
}

/** Refuses ports of this machine that another program has. */
export async function requireFreePorts(ports: readonly number[]): Promise<void> {
  for (const port of ports) {
    const probe = createNetServer();
    const free = await new Promise<boolean>((resolve) => {
      probe.once('error', () => resolve(false));
      probe.listen(port, '127.0.0.1', () => probe.close(() => resolve(true)));
    });
    if (!free)
      throw new CommandError(
        EXIT.refused,
        `The demo needs port ${port} of 127.0.0.1, which another program uses.`,
        'Is another demo running? Stop that one first.',
      );
  }
}

/** A little real mail in both directions, over real sockets. */
async function exchangeMail({ service, claimed }: World): Promise<void> {
  const host = { address: HOST.addresses[0] ?? '' };
  const body = 'This is a message of the demo.\r\n\r\nGreetings';
  const account = (user: string) => ({ user, password: DEMO_PASSWORD });
  // Seven recipients outside, one of them through an alias.
  const attempted = new Promise<void>((resolve) => {
    let left = 7;
    service.context.signals.on('attempted', () => {
      left -= 1;
      if (left === 0) resolve();
    });
  });
  await submit(claimed.submissions, '198.51.100.40', host, account('ana@olmobakery.example'), [
    { from: 'ana@olmobakery.example', to: ['mar.soto@northpost.example', 'leo@openbay.example'], subject: 'Christmas opening hours', body },
    { from: 'info@olmobakery.example', to: ['vera@slowtide.example'], subject: 'Re: bread for the village party', body },
  ]);
  await submit(claimed.submissions, '198.51.100.52', host, account('nico@rutaverde.example'), [
    { from: 'nico@rutaverde.example', to: ['irene.vidal@northpost.example'], subject: 'Sunday ride: start at nine', body },
  ]);
  // The club writes to all of its members: what is beyond forty an hour waits here for room.
  const members = (from: number, to: number): string[] =>
    Array.from({ length: to - from }, (_none, at) => `member${from + at}@openbay.example`);
  for (const [from, to] of [
    [1, 25],
    [25, 49],
  ] as const)
    await submit(claimed.submissions, '198.51.100.52', host, account('club@rutaverde.example'), [
      { from: 'club@rutaverde.example', to: members(from, to), subject: 'Programme of the winter rides', body },
    ]);
  await submit(claimed.submissions, '198.51.100.88', host, account('marta@coropuerto.example'), [
    { from: 'marta@coropuerto.example', to: ['sofia@northpost.example'], subject: 'Scores for the concert', body },
    { from: 'marta@coropuerto.example', to: ['bruno@openbay.example'], subject: 'Scores for the concert', body },
  ]);
  const north = { address: '203.0.113.10', helo: 'mx.northpost.example' };
  await bring(claimed.smtp, north, host, {
    from: 'mar.soto@northpost.example',
    to: ['ana@olmobakery.example'],
    subject: 'Re: Christmas opening hours',
    body,
  });
  await bring(claimed.smtp, north, host, {
    from: 'tom@northpost.example',
    to: ['board@rutaverde.example'],
    subject: 'Question about membership',
    body,
  });
  await bring(claimed.smtp, { address: '203.0.113.20', helo: 'mx.openbay.example' }, host, {
    from: 'dani@openbay.example',
    to: ['visit@marisma-museum.example', 'nobody-here@marisma-museum.example'],
    subject: 'Guided visit for a school',
    body,
  });
  await bring(claimed.smtp, { address: '203.0.113.66', helo: 'unknown.example' }, host, {
    from: 'offers@unknown.example',
    to: ['someone@clinicmail.example'],
    subject: 'Offer',
    body,
  });
  await attempted;
}

/** What each provider received and how it judged that, as text. */
function lookInto({ providers }: World): string {
  return providers
    .map((provider) => {
      const lines = provider.filed.map(({ at, sender, recipient, subject, folder, judgement, client, tls }) => {
        const dkim = judgement.dkim.map((one) => `${one.result} (${one.reason})`).join(', ') || 'none';
        return `  ${new Date(at).toISOString().slice(0, 19)}  ${folder}\n    ${sender} → ${recipient}: ${subject}\n    from ${client}${tls ? ' with TLS' : ''}\n    SPF ${judgement.spf.result} (${judgement.spf.reason})\n    DKIM ${dkim}\n    DMARC ${judgement.dmarc.result} (${judgement.dmarc.reason})\n`;
      });
      return `${provider.domain}, ${PROVIDERS.find((one) => one.domain === provider.domain)?.says}\n\n${lines.join('\n') || '  nothing yet\n'}`;
    })
    .join('\n');
}
