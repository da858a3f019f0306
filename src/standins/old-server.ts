import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { RunningService, ServiceOptions } from '../compose/running-service.ts';
import { loadCertificate } from '../net/certificate.ts';
import { type Config, parseConfig } from '../service/app/config.ts';
import { addCustomer, addPlan } from '../service/directory/customers.ts';
import { addDomain } from '../service/directory/domains.ts';
import { addMailbox } from '../service/directory/mailboxes.ts';
import { makeFolder } from '../store/make-folder.ts';
import { seededRandom } from './seed.ts';
import { seedOldMailbox } from './seed-mailboxes.ts';
import { MOVING, OLD_HOST, PLANS } from './world.ts';

/** Whose mail still lies on the server that Taller Nuño had before. */
const ADDRESS = 'pau@tallernuno.example';
/** What signs in there; docs/guide.md names it. */
export const OLD_PASSWORD = 'old-harbour-4471';

/** What the people of the domain that moves sign in with there. */
export const oldPasswordOf = (person: string): string => `north-wind-and-${person}`;

export interface OldServer {
  service: RunningService;
  imapsPort: number;
}

export interface OldServerSettings {
  folder: string;
  startService: (config: Config, options?: ServiceOptions) => Promise<RunningService>;
  imapsPort: number;
  smtpPort: number;
  resolverPort: number;
  logTo: NodeJS.WritableStream;
}

/** The PEM of the certificate that it will show, which this world trusts. */
export async function oldServerCertificate(folder: string): Promise<string> {
  await loadCertificate(null, join(folder, 'data'), OLD_HOST.name);
  return readFileSync(join(folder, 'data/tls', `${OLD_HOST.name}.pem`), 'utf8');
}

/** A server from which one domain has moved away and another one is about to: it speaks IMAP, and takes mail. */
export async function openOldServer(settings: OldServerSettings): Promise<OldServer> {
  const { folder, imapsPort, smtpPort, resolverPort } = settings;
  makeFolder(folder, 0o700);
  const text = [
    '# Written by the demo at each start.',
    'data = "data"\n',
    `[host]\nname = "${OLD_HOST.name}"\naddresses = ["${OLD_HOST.address}"]\npostmaster = "${ADDRESS}"\n`,
    `[dns]\nresolvers = ["127.0.0.1:${resolverPort}"]\n`,
    '[log]\nlevel = "warn"\n[checks]\nevery_minutes = 0\n[access]\nprocesses = 0\n',
    `[[listener]]\nservice = "imaps"\naddress = "127.0.0.1"\nport = ${imapsPort}\n`,
    `[[listener]]\nservice = "smtp"\naddress = "127.0.0.1"\nport = ${smtpPort}\n`,
  ].join('\n');
  const file = join(folder, 'tenedor.toml');
  writeFileSync(file, text);
  const readConfig = (): Config => parseConfig(readFileSync(file, 'utf8'), file, folder);
  const service = await settings.startService(readConfig(), { logTo: settings.logTo, readConfig, holdChecks: true });
  const { context } = service;
  for (const plan of PLANS.slice(0, 1)) await addPlan(context, plan);
  await addCustomer(context, 'Taller Nuño');
  const domain = ADDRESS.slice(ADDRESS.indexOf('@') + 1);
  await addDomain(context, { name: domain, customer: 'Taller Nuño', plan: PLANS[0]?.name ?? '', role: 'home' });
  await addMailbox(context, { address: ADDRESS, password: OLD_PASSWORD, quotaBytes: null });
  await seedOldMailbox(context, ADDRESS, 'Pau Nuño', 140, seededRandom(23));
  await addCustomer(context, MOVING.customer);
  await addDomain(context, { name: MOVING.domain, customer: MOVING.customer, plan: PLANS[0]?.name ?? '', role: 'home' });
  for (const [at, person] of MOVING.people.entries()) {
    const address = `${person}@${MOVING.domain}`;
    await addMailbox(context, { address, password: oldPasswordOf(person), quotaBytes: null });
    await seedOldMailbox(
      context,
      address,
      person === 'office' ? 'Vela Norte' : `${person[0]?.toUpperCase()}${person.slice(1)}`,
      28,
      seededRandom(31 + at),
    );
  }
  return { service, imapsPort };
}
