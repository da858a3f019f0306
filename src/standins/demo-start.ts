import { createWriteStream, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { CommandError, EXIT } from '../cli/errors.ts';
import { keepSignIn } from '../cli/kept-sign-ins.ts';
import type { RunningService, ServiceOptions } from '../compose/running-service.ts';
import { bracketed } from '../core/address/ip-address.ts';
import { lookUp } from '../core/records/answers.ts';
import { Resolver } from '../dns/resolver.ts';
import { type Certificate, loadCertificate } from '../net/certificate.ts';
import { addToken } from '../service/access/accounts.ts';
import { type Config, parseConfig } from '../service/app/config.ts';
import { rehearseReceive, rehearseSignIn } from '../service/rehearsal/rehearse.ts';
import { addWitness } from '../service/rehearsal/witnesses.ts';
import { findAccount } from '../store/accounts.ts';
import { makeFolder } from '../store/make-folder.ts';
import { StandInAuthority } from './authority.ts';
import { StandInResolver } from './caching-resolver.ts';
import type { World } from './demo-world.ts';
import { NAME_SERVER, StandInDns } from './dns-server.ts';
import { freePort, isFree } from './free-port.ts';
import { oldServerCertificate, openOldServer } from './old-server.ts';
import { StandInProvider } from './provider.ts';
import { StandInRelay } from './relay.ts';
import { openReserve } from './reserve.ts';
import { seedChecks, seededRandom, seedLockout, seedProvisioning, seedVersion } from './seed.ts';
import { authorityEyes, seedCertificates } from './seed-certificates.ts';
import { seedMailboxes } from './seed-mailboxes.ts';
import { seedMove } from './seed-move.ts';
import { seedHistory } from './seed-traffic.ts';
import { seedTrials } from './seed-trials.ts';
import { Wall } from './wall.ts';
import { BLOCK_LIST, CLINIC_HOST, HOST, OLD_HOST, OLD_MAIL_HOST, PROVIDERS, RELAY, RESERVE } from './world.ts';

export interface DemoSettings {
  /** Where the demo keeps everything; emptied at each start. */
  folder: string;
  tour: boolean;
  startService: (config: Config, options?: ServiceOptions) => Promise<RunningService>;
  /** The built command line, which the tour runs. */
  program: string;
}

/** Where the world finds them. */
const PUBLIC_PORTS = { smtp: 25, submission: 587, submissions: 465, imap: 143, imaps: 993, pop3: 110, pop3s: 995 } as const;
const PUBLIC_SERVICES = Object.keys(PUBLIC_PORTS) as (keyof typeof PUBLIC_PORTS)[];
/** The ports of the demo's service; in the tour any free ones. */
export const PORTS = {
  smtp: 2525,
  submission: 2587,
  submissions: 2465,
  imap: 2143,
  imaps: 2993,
  pop3: 2110,
  pop3s: 2995,
  web: 8025,
  look: 8026,
  reserve: 8027,
};

/** Starts name server, providers and service in a new folder, with its data. */
export async function startWorld(
  settings: Pick<DemoSettings, 'folder' | 'startService'>,
  wanted: Omit<typeof PORTS, 'look' | 'reserve'>,
  history: boolean,
): Promise<World> {
  const ports = { ...wanted };
  // The world has to know where each of them is found.
  for (const name of PUBLIC_SERVICES) if (ports[name] === 0) ports[name] = await freePort();
  rmSync(settings.folder, { recursive: true, force: true });
  makeFolder(settings.folder, 0o700);
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
  const challengePort = await freePort();
  const authority = await StandInAuthority.make(
    'Quillamar',
    authorityEyes(async (name, type) => {
      resolver.forget();
      const answer = await lookUp(resolver.lookup, name, type);
      return answer.kind === 'found' ? answer.values : [];
    }, challengePort),
    { days: 90, now: Date.now },
  );
  const directory = await authority.listen();
  const authorityRoots = join(settings.folder, 'authority.pem');
  writeFileSync(authorityRoots, authority.rootPem);
  const trustedRoots = join(settings.folder, 'roots.pem');
  const oldFolder = join(settings.folder, 'old');
  writeFileSync(
    trustedRoots,
    readFileSync(join(settings.folder, 'relay/tls', `${RELAY.name}.pem`), 'utf8') +
      (await oldServerCertificate(oldFolder)) +
      authority.rootPem,
  );
  const webPort = ports.web === 0 ? await freePort() : ports.web;
  // Known beforehand, so that the reserve server finds the primary again after a stop.
  const claimed = {
    smtp: await freePort(),
    submissions: await freePort(),
    reserve: await freePort(),
    oldImaps: await freePort(),
    oldSmtp: await freePort(),
  };
  const listener = (service: string, port: number, proxy = false): string =>
    `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${port}\nproxy = ${proxy}\n`;
  const wall = await Wall.stand();
  const publicDials = PUBLIC_SERVICES.flatMap((name) =>
    HOST.addresses.map((address) => {
      const to = `${bracketed(address)}:${PUBLIC_PORTS[name]}`;
      return `[[dial]]\nto = "${to}"\nthrough = "127.0.0.1:${ports[name]}"\n`;
    }),
  );
  const text = [
    '# Written by the demo at each start.',
    'data = "data"\n',
    `[host]\nname = "${HOST.name}"\naddresses = ${JSON.stringify(HOST.addresses)}\npostmaster = "${HOST.postmaster}"\nstandby = ["${RESERVE.name}"]\n`,
    `[dns]\nresolvers = ["127.0.0.1:${resolverPort}"]\nblock_lists = ["${BLOCK_LIST}"]\n`,
    `[mail]\ngreet_after_ms = 200\ntrusted_roots = ${JSON.stringify(trustedRoots)}\n`,
    `[authority]\ndirectory = "${directory}"\ntrusted_roots = ${JSON.stringify(authorityRoots)}\n`,
    '[backup]\ntarget = "backups"\n',
    '[outgoing]\nto_this_machine = true\n',
    '[log]\nlevel = "info"\n',
    listener('smtp', claimed.smtp, true),
    listener('submissions', claimed.submissions, true),
    listener('web', webPort),
    listener('smtp', ports.smtp),
    listener('submission', ports.submission),
    listener('submissions', ports.submissions),
    listener('imap', ports.imap),
    listener('imaps', ports.imaps),
    listener('pop3', ports.pop3),
    listener('pop3s', ports.pop3s),
    listener('challenge', challengePort),
    ...dial,
    `[[dial]]\nto = "${NAME_SERVER.address}:53"\nthrough = "127.0.0.1:${dnsPort}"\n`,
    ...publicDials,
    // An old server behind a firewall that drops, and one that is switched off.
    `[[dial]]\nto = "${OLD_HOST.address}:25"\nthrough = "127.0.0.1:${wall.port}"\n`,
    `[[dial]]\nto = "${OLD_MAIL_HOST.address}:25"\nthrough = "127.0.0.1:${claimed.oldSmtp}"\n`,
    // Its mail can still be fetched.
    `[[dial]]\nto = "${OLD_HOST.address}:993"\nthrough = "127.0.0.1:${claimed.oldImaps}"\n`,
    `[[dial]]\nto = "${CLINIC_HOST.address}:25"\nthrough = "127.0.0.1:${await freePort()}"\n`,
    ...RESERVE.addresses.map(
      (address) => `[[dial]]\nto = "${bracketed(address)}:25"\nthrough = "127.0.0.1:${claimed.reserve}"\nproxy = true\n`,
    ),
  ].join('\n');
  const file = join(settings.folder, 'tenedor.toml');
  writeFileSync(file, text);
  const logTo = createWriteStream(join(settings.folder, 'service.log'));
  const readConfig = (): Config => parseConfig(readFileSync(file, 'utf8'), file, settings.folder);
  if (history) await seedVersion(readConfig().data);
  const service = await settings.startService(readConfig(), {
    logTo,
    readConfig,
    // Until the world is as it should be, nobody is to look at it.
    holdChecks: true,
  });
  const { context } = service;
  await seedProvisioning(context, dns);
  await seedCertificates(context, dns, authority);
  await service.certificates.turn();
  if (history) {
    await seedHistory(context, seededRandom(7));
    await seedChecks(context, dns, () => caching.forget());
    await seedLockout(context);
    await seedMailboxes(context, seededRandom(11));
    await rehearseSignIn(context, 'ana@olmobakery.example');
    await seedTrials(service, { dns, forgetCaches: () => caching.forget(), claimed });
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
    trustedRoots,
    dials: publicDials.filter((one) => !one.includes(':25"')),
    logTo,
  });
  const old = await openOldServer({
    folder: oldFolder,
    startService: settings.startService,
    imapsPort: claimed.oldImaps,
    smtpPort: claimed.oldSmtp,
    resolverPort,
    logTo,
  });
  if (history) {
    await seedMove(context);
    await context.backups.make({ target: null, isByHand: true });
    await context.backups.over();
  }
  // Each is the other's witness.
  const { givenCode } = await addWitness(reserve.service.context, { name: HOST.name, url: null, code: null, ownUrl: null });
  await addWitness(context, { name: RESERVE.name, url: reserve.webUrl, code: givenCode, ownUrl: webUrl });
  if (history) await rehearseReceive(context, 'ana@olmobakery.example', { witness: RESERVE.name, message: false });
  const close = async (): Promise<void> => {
    await world.service.stop();
    await reserve.service.stop();
    await old.service.stop();
    relay.close();
    wall.close();
    authority.close();
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
      world.service = await settings.startService(readConfig(), { logTo, readConfig, holdChecks: true });
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

/** Refuses ports of this machine that another program has. */
export async function requireFreePorts(ports: readonly number[]): Promise<void> {
  for (const port of ports) {
    if (!(await isFree(port)))
      throw new CommandError(
        EXIT.refused,
        `The demo needs port ${port} of 127.0.0.1, which another program uses.`,
        'Is another demo running? Stop that one first.',
      );
  }
}
