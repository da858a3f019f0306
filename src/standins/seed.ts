import { oneAddress } from '../core/address/ip-address.ts';
import { noteLockout } from '../service/access/lockouts.ts';
import { noteTlsFault, noteWrongSignIn } from '../service/access/sign-in-troubles.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { addOutlet } from '../service/delivery/outlets.ts';
import { addCustomer, addPlan } from '../service/directory/customers.ts';
import { addDomain } from '../service/directory/domains.ts';
import { addAlias, addMailbox } from '../service/directory/mailboxes.ts';
import { addNetwork } from '../service/directory/networks.ts';
import { checkAll } from '../service/dns/check-runs.ts';
import { checkHostNow } from '../service/dns/host.ts';
import { setZone } from '../service/dns/zones.ts';
import { setLimits } from '../service/limits/edit-limits.ts';
import { Database } from '../store/database.ts';
import { findDomain } from '../store/domains.ts';
import { listKeys } from '../store/keys.ts';
import { findMailbox } from '../store/mailboxes.ts';
import { type NewSignIns, noteSignIns } from '../store/sign-in-history.ts';
import { noteVersionRun } from '../store/version-runs.ts';
import { NAME_SERVER, type StandInDns } from './dns-server.ts';
import { DOMAINS, OWN_ZONES, PLANS, RELAY, RESERVE, UPDATE_KEY, ZONES } from './world.ts';
import { customerRecords, goodRecords, worldRecords } from './world-records.ts';

/** The password of every demo mailbox; the demo prints it. */
export const DEMO_PASSWORD = 'quiet-lighthouse-42';

const HOUR = 3_600_000;

/** A phone with an old password has tried again and again. */
export async function seedLockout(context: ServiceContext): Promise<void> {
  const mailbox = { address: 'visit@marisma-museum.example', domain: 'marisma-museum.example' };
  const phone = '198.51.100.77';
  for (let tries = 0; tries < 16; tries += 1) context.guards.mailboxes.failed(phone, mailbox.address, context.clock.now(), mailbox.domain);
  await noteLockout(context, mailbox, phone);
  for (let tries = 0; tries < 16; tries += 1) noteWrongSignIn(context, 'submission', phone, mailbox.address);
  // A new phone that was told half of the name, an alias, and a tablet of long ago.
  noteWrongSignIn(context, 'POP3', '203.0.113.60', 'Nico');
  noteWrongSignIn(context, 'submission', '203.0.113.61', 'info@olmobakery.example');
  noteTlsFault(context, 'POP3', '203.0.113.62', 'TLS failed: unsupported protocol');
  const days = Array.from({ length: 20 }, (_, index) => 20 - index);
  await context.db.commit(() => {
    for (const day of days) {
      pastSignIns(context, 'ana@olmobakery.example', { client: '198.51.100.40', service: 'IMAP', times: 9 }, day);
      pastSignIns(context, 'nico@rutaverde.example', { client: '198.51.100.52', service: 'POP3', times: 4 }, day);
    }
    // Somebody knows Nico's password, or Nico travels.
    pastSignIns(context, 'nico@rutaverde.example', { client: '203.0.113.199', service: 'IMAP', times: 1 }, 2);
    pastSignIns(context, mailbox.address, { client: phone, service: 'submission', times: 16, isGood: false }, 0);
  });
}

/** Sign-ins with a mailbox's own password, some days ago. */
function pastSignIns(
  { db, clock }: ServiceContext,
  address: string,
  one: Pick<NewSignIns, 'client' | 'service' | 'times'> & { isGood?: boolean },
  daysAgo: number,
): void {
  const [local = '', domain = ''] = address.split('@');
  const mailboxId = findMailbox(db, local, domain)?.id;
  const at = clock.now() - daysAgo * 24 * HOUR;
  if (mailboxId !== undefined) noteSignIns(db, { mailboxId, device: null, isGood: true, ...one, first: at, last: at });
}

/** The same numbers each time (mulberry32). */
export function seededRandom(seed: number): () => number {
  let state = seed;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}

/** Customers, plans, domains, mailboxes and aliases, and the records that each customer has published. */
export async function seedProvisioning(context: ServiceContext, dns: StandInDns): Promise<void> {
  for (const zone of ZONES) dns.addZone(zone);
  for (const record of worldRecords()) dns.publish(record);
  dns.updateKey = UPDATE_KEY;
  for (const name of OWN_ZONES)
    await setZone(context, { ...UPDATE_KEY, name, keyName: UPDATE_KEY.name, server: NAME_SERVER.address, port: 53 });
  await addNetwork(context, '203.0.113.128/27', { note: 'alumni forwarder of the museum' });
  for (const address of RESERVE.addresses) await addNetwork(context, oneAddress(address), { note: 'our reserve server' });
  for (const plan of PLANS) await addPlan(context, plan);
  for (const one of DOMAINS) {
    await addCustomer(context, one.customer, one.mailboxes[0] ? `${one.mailboxes[0]}@${one.domain}` : null);
    await addDomain(context, { name: one.domain, customer: one.customer, plan: one.plan, role: one.role });
    await Promise.all(
      one.mailboxes.map((local) => addMailbox(context, { address: `${local}@${one.domain}`, password: DEMO_PASSWORD, quotaBytes: null })),
    );
    for (const [local, targets] of Object.entries(one.aliases)) await addAlias(context, `${local}@${one.domain}`, targets);
    const domain = findDomain(context.db, one.domain);
    const key = domain && listKeys(context.db, domain.id)[0];
    if (key) for (const record of customerRecords(one.domain, key)) dns.publish(record);
  }
  // The museum's ticket machines can't sign in.
  await addNetwork(context, '198.51.100.144/28', { note: 'ticket machines', maySubmit: true, domains: ['marisma-museum.example'] });
  await addOutlet(context, {
    name: 'carrier relay',
    host: RELAY.name,
    port: RELAY.port,
    tls: 'required',
    user: RELAY.user,
    password: RELAY.password,
    domains: ['marisma-museum.example', 'imprentalunar.example'],
    position: 10,
    whenSpent: 'next',
  });
  await setLimits(context, 'outlet:carrier relay', { limits: [{ period: 'day', quantity: 'sends', amount: RELAY.daily }] });
  await setLimits(context, 'server', { limits: [{ period: 'day', quantity: 'sends', amount: 20_000 }] });
}

/** Weeks of checks: all was right once, and each fault came some days ago. */
export async function seedChecks(context: ServiceContext, dns: StandInDns, forgetCaches: () => void): Promise<void> {
  const { db } = context;
  const publish = (kind: 'good' | 'as it is'): void => {
    for (const { domain, role } of DOMAINS) {
      const key = listKeys(db, findDomain(db, domain)?.id ?? 0)[0];
      if (role !== 'home' || !key) continue;
      const [good, found] = [goodRecords(domain, key), customerRecords(domain, key)];
      for (const { name, type } of [...good, ...found]) dns.withdraw(name, type);
      for (const record of kind === 'good' ? good : found) dns.publish(record);
    }
    forgetCaches();
  };
  /** Moves what the last checks have written into the past, each domain by days of its own. */
  const age = (days: (at: number) => number, since: number): Promise<void> =>
    db.commit(() => {
      for (const [at, { domain }] of DOMAINS.entries()) {
        const id = findDomain(db, domain)?.id ?? 0;
        const back = Math.round(days(at) * 24 * HOUR);
        db.run('UPDATE finding_change SET at = at - ? WHERE domain_id = ? AND at >= ?', back, id, since);
        db.run(`UPDATE journal SET at = at - ? WHERE domain = ? AND event = 'finding-changed' AND at >= ?`, back, domain, since);
        db.run('UPDATE domain SET dmarc_seen_since = dmarc_seen_since - ? WHERE id = ? AND dmarc_seen_since >= ?', back, id, since);
      }
    });
  const begun = context.clock.now();
  publish('good');
  await checkAll(context);
  await age((at) => 24 + at, begun);
  await checkHostNow(context);
  const later = context.clock.now();
  publish('as it is');
  await checkAll(context);
  await age((at) => 2.3 + at * 1.7, later);
}

const FORMER = { version: '0.1.0', databaseVersion: 20, days: 40 };

/** This data is not new: another version has worked with it before. */
export async function seedVersion(data: string): Promise<void> {
  const db = Database.open(data);
  await db.commit(() => noteVersionRun(db, FORMER.version, Date.now() - FORMER.days * 24 * HOUR, FORMER.databaseVersion));
  db.close();
}
