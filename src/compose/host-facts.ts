import { networkInterfaces } from 'node:os';
import { isIpAddress } from '../core/address/ip-address.ts';
import { isOwnMachine } from '../core/address/reach.ts';
import { type Lookup, lookUp } from '../core/records/answers.ts';
import { sameAddress } from '../core/records/reverse-name.ts';
import { CLIENT_SERVICES, type ClientService } from '../core/records/sheet.ts';
import type { Config } from '../service/app/config.ts';

/**
 * What mail programs can be told to connect to: what this service listens for, each at its port. Where the dial map leads another port of
 * the host here, that one is what the world sees; of several, the usual one is told.
 */
export function clientServices(config: Config): Partial<Record<ClientService, number>> {
  const usual: Record<ClientService, number> = { submissions: 465, submission: 587, imaps: 993, imap: 143, pop3s: 995, pop3: 110 };
  const services: Partial<Record<ClientService, number>> = {};
  for (const service of Object.keys(CLIENT_SERVICES) as ClientService[]) {
    const seen = (port: number): number => config.dial.find(({ through }) => port !== 0 && through.port === port)?.to.port ?? port;
    const ports = config.listener.filter((one) => one.service === service).map((one) => seen(one.port) || usual[service]);
    const port = ports.includes(usual[service]) ? usual[service] : ports[0];
    if (port !== undefined) services[service] = port;
  }
  return services;
}

/** Where the dial map leads an address. */
export function dialled(config: Config, server: { address: string; port: number }): { address: string; port: number; proxy: boolean } {
  const entry = config.dial.find(({ to }) => to.port === server.port && sameAddress(to.address, server.address));
  return entry ? { ...entry.through, proxy: entry.proxy } : { ...server, proxy: false };
}

/** Where a server is found by its name or address: the first address that DNS has, by the dial map; null where it has none. Only where the configuration allows it may that be this machine. */
export async function findServer(
  config: Config,
  lookup: Lookup,
  host: string,
  port: number,
): Promise<{ address: string; port: number } | 'own-machine' | null> {
  const isAllowed = (address: string): boolean => config.outgoing.to_this_machine || !isOwnMachine(address);
  if (isIpAddress(host)) return isAllowed(host) ? dialled(config, { address: host, port }) : 'own-machine';
  let isInward = false;
  for (const type of ['A', 'AAAA'] as const) {
    const answer = await lookUp(lookup, host, type);
    const values = answer.kind === 'found' ? answer.values : [];
    const address = values.find(isAllowed);
    if (address !== undefined) return dialled(config, { address, port });
    isInward ||= values.length > 0;
  }
  return isInward ? 'own-machine' : null;
}

/** Global IPv6 addresses of this machine (RFC 4291 §2.4): mail may leave by any of them. */
export function publicRoutes(): string[] {
  const addresses = Object.values(networkInterfaces()).flatMap((all) => all ?? []);
  return addresses.filter((one) => one.family === 'IPv6' && !one.internal && /^[23]/.test(one.address)).map((one) => one.address);
}
