import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { RunningService, ServiceOptions } from '../compose/running-service.ts';
import { bracketed, oneAddress } from '../core/address/ip-address.ts';
import { type Config, parseConfig } from '../service/app/config.ts';
import { addCustomer, addPlan } from '../service/directory/customers.ts';
import { addDomain } from '../service/directory/domains.ts';
import { addNetwork } from '../service/directory/networks.ts';
import { makeFolder } from '../store/make-folder.ts';
import { NAME_SERVER } from './dns-server.ts';
import { DOMAINS, HOST, PLANS, RESERVE } from './world.ts';

/** The provider's second server: a Tenedor of its own, with its own data, that stands by for every domain of the first. */
export interface Reserve {
  service: RunningService;
  /** Its port 25, behind the PROXY protocol. */
  smtpPort: number;
  webUrl: string;
}

export interface ReserveSettings {
  folder: string;
  startService: (config: Config, options?: ServiceOptions) => Promise<RunningService>;
  resolverPort: number;
  dnsPort: number;
  smtpPort: number;
  webPort: number;
  /** Where the primary's port 25 is found on this machine. */
  primaryPort: number;
  /** The authorities of this world. */
  trustedRoots: string;
  /** Where the other ports of the primary are found, as the configuration has it. */
  dials: readonly string[];
  logTo: NodeJS.WritableStream;
}

/** Port 25 of these addresses, behind the PROXY protocol. */
const dials = (addresses: readonly string[], port: number): string[] =>
  addresses.map((address) => `[[dial]]\nto = "${bracketed(address)}:25"\nthrough = "127.0.0.1:${port}"\nproxy = true\n`);

export async function openReserve(settings: ReserveSettings): Promise<Reserve> {
  makeFolder(settings.folder, 0o700);
  const text = [
    '# Written by the demo at each start.',
    'data = "data"\n',
    `[host]\nname = "${RESERVE.name}"\naddresses = ${JSON.stringify(RESERVE.addresses)}\npostmaster = "${HOST.postmaster}"\n`,
    `[dns]\nresolvers = ["127.0.0.1:${settings.resolverPort}"]\n`,
    `[mail]\ngreet_after_ms = 0\ntrusted_roots = ${JSON.stringify(settings.trustedRoots)}\n`,
    '[log]\nlevel = "warn"\n[checks]\nevery_minutes = 0\n[outgoing]\nto_this_machine = true\n',
    `[[listener]]\nservice = "smtp"\naddress = "127.0.0.1"\nport = ${settings.smtpPort}\nproxy = true\n`,
    `[[listener]]\nservice = "web"\naddress = "127.0.0.1"\nport = ${settings.webPort}\n`,
    ...dials(HOST.addresses, settings.primaryPort),
    ...settings.dials,
    ...dials(RESERVE.addresses, settings.smtpPort),
    `[[dial]]\nto = "${NAME_SERVER.address}:53"\nthrough = "127.0.0.1:${settings.dnsPort}"\n`,
  ].join('\n');
  const file = join(settings.folder, 'tenedor.toml');
  writeFileSync(file, text);
  const readConfig = (): Config => parseConfig(readFileSync(file, 'utf8'), file, settings.folder);
  const service = await settings.startService(readConfig(), { logTo: settings.logTo, readConfig, holdChecks: true });
  for (const address of HOST.addresses) await addNetwork(service.context, oneAddress(address), { note: 'our first server' });
  for (const plan of PLANS) await addPlan(service.context, plan);
  for (const one of DOMAINS) {
    if (one.role !== 'home') continue;
    await addCustomer(service.context, one.customer);
    await standBy(service, one.domain, one.customer, one.plan);
  }
  return { service, smtpPort: settings.smtpPort, webUrl: `http://127.0.0.1:${service.ports[1]}` };
}

/** Takes a domain on as one that another server has: found by its MX, and asked which addresses exist. */
export const standBy = (service: RunningService, domain: string, customer: string, plan: string): Promise<unknown> =>
  addDomain(service.context, { name: domain, customer, plan, role: 'standby' });
