import { checkAll } from '../service/check-runs.ts';
import type { ServiceContext } from '../service/context.ts';
import { addCustomer, addPlan } from '../service/customers.ts';
import { addDomain } from '../service/domains.ts';
import { checkHostNow } from '../service/host.ts';
import { addAlias, addMailbox } from '../service/mailboxes.ts';
import { addNetwork } from '../service/networks.ts';
import { newJourneyId } from '../service/secrets.ts';
import { setZone } from '../service/zones.ts';
import { findDomain } from '../store/domains.ts';
import { addEntry, addJourney, addRecipient, changeRecipient } from '../store/journeys.ts';
import { listKeys } from '../store/keys.ts';
import { charge } from '../store/ledger.ts';
import { findMailbox } from '../store/mailboxes.ts';
import { NAME_SERVER, type StandInDns } from './dns-server.ts';
import {
  customerRecords,
  type DemoDomain,
  DOMAINS,
  goodRecords,
  NEWSLETTER,
  OWN_ZONES,
  PLANS,
  PROVIDERS,
  UPDATE_KEY,
  worldRecords,
  ZONES,
} from './world.ts';

/** The password of every demo mailbox; the demo prints it. */
export const DEMO_PASSWORD = 'quiet-lighthouse-42';

const HOUR = 3_600_000;
const DAYS = 4;
/** Sends by hour of the day, UTC: an office. */
const SHAPE = [0, 0, 0, 0, 0, 0.2, 0.5, 1, 2, 3, 3, 2.5, 1.5, 1.5, 2.5, 2.5, 2, 1.5, 1, 0.7, 0.5, 0.4, 0.2, 0.1];
const WHOLE = SHAPE.reduce((sum, one) => sum + one, 0);

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
  await addNetwork(context, '203.0.113.128/27', 'alumni forwarder of the museum');
  for (const plan of PLANS) await addPlan(context, plan);
  for (const one of DOMAINS) {
    await addCustomer(context, one.customer);
    await addDomain(context, { name: one.domain, customer: one.customer, plan: one.plan, role: one.role });
    await Promise.all(
      one.mailboxes.map((local) => addMailbox(context, { address: `${local}@${one.domain}`, password: DEMO_PASSWORD, quotaBytes: null })),
    );
    for (const [local, targets] of Object.entries(one.aliases)) await addAlias(context, `${local}@${one.domain}`, targets);
    const domain = findDomain(context.db, one.domain);
    const key = domain && listKeys(context.db, domain.id)[0];
    if (key) for (const record of customerRecords(one.domain, key)) dns.publish(record);
  }
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

const PEOPLE = ['mar.soto', 'leo', 'irene.vidal', 'tom', 'carla', 'sam.ortega', 'vera', 'hugo', 'nadia', 'alba.cano', 'dani', 'rosa'];

/** Some days of sending and receiving, up to now: ledger and journal agree as if it had happened. */
export async function seedHistory(context: ServiceContext, random: () => number): Promise<void> {
  const { db, clock } = context;
  const now = clock.now();
  const pick = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)] as T;
  await db.commit(() => {
    for (const one of DOMAINS) {
      if (one.role !== 'home') continue;
      // The newsletter has its last hour to itself.
      const last = one.domain === NEWSLETTER.domain ? 2 : 1;
      for (let hour = DAYS * 24; hour >= last; hour -= 1) {
        const begin = now - hour * HOUR;
        const share = SHAPE[new Date(begin).getUTCHours()] ?? 0;
        const expected = (one.daily * (one.domain === 'tallernuno.example' && hour <= 24 ? 1.1 : 1) * share) / WHOLE;
        let left = Math.floor(expected + random());
        while (left > 0) {
          const sends = Math.min(left, random() < 0.85 ? 1 : 1 + Math.floor(random() * 3));
          left -= sends;
          const to = Array.from({ length: sends }, () => `${pick(PEOPLE)}@${pick(PROVIDERS).domain}`);
          pastSubmission(context, one, begin + Math.floor(random() * HOUR), pick(one.mailboxes), [...new Set(to)], pick(one.subjects));
        }
        if (random() < expected / 3)
          pastArrival(
            context,
            one,
            begin + Math.floor(random() * HOUR),
            `${pick(PEOPLE)}@${pick(PROVIDERS).domain}`,
            `Re: ${pick(one.subjects)}`,
          );
      }
    }
    topUp(context, now, 'tallernuno.example', 0.92, pick);
    newsletter(context, now);
  });
  // The windows were first looked at before there was any history.
  for (const one of DOMAINS) context.limits.forget(findDomain(db, one.domain)?.id ?? -1);
}

/** Sends enough more in the last hours that the domain stands at `share` of its daily limit. */
function topUp(context: ServiceContext, now: number, name: string, share: number, pick: <T>(list: readonly T[]) => T): void {
  const { db } = context;
  const one = DOMAINS.find((domain) => domain.domain === name);
  const domain = findDomain(db, name);
  if (!one || !domain) return;
  const used =
    db.one<{ n: number | null }>('SELECT sum(sends) AS n FROM ledger WHERE domain_id = ? AND at > ?', domain.id, now - 24 * HOUR)?.n ?? 0;
  const missing = Math.floor((domain.dayLimit ?? 0) * share) - used;
  for (let at = 0; at < missing; at += 1)
    pastSubmission(
      context,
      one,
      now - 2 * HOUR - Math.floor((at * 14 * HOUR) / missing),
      'pau',
      [`${pick(PEOPLE)}@${pick(PROVIDERS).domain}`],
      pick(one.subjects),
    );
}

interface Past {
  id: string;
  entry: (event: string, data: object, after: number) => void;
}

function past(
  context: ServiceContext,
  one: DemoDomain,
  at: number,
  facts: { kind: 'submitted' | 'received'; outcome?: 'refused'; sender: string; to: string[]; subject: string; client: string },
): Past {
  const { db } = context;
  const id = newJourneyId(at);
  addJourney(db, {
    id,
    at,
    kind: facts.kind,
    outcome: facts.outcome ?? 'accepted',
    sender: facts.sender,
    recipients: facts.to.join(', '),
    subject: facts.subject,
    size: facts.outcome ? 0 : 2400 + (at % 9000),
    client: facts.client,
    domain: one.domain,
    file: null,
  });
  const entry = (event: string, data: object, after: number): void =>
    addEntry(db, { at: at + after, journeyId: id, domain: one.domain, event, data });
  return { id, entry };
}

function pastSubmission(context: ServiceContext, one: DemoDomain, at: number, local: string, to: string[], subject: string): void {
  const { db } = context;
  const sender = `${local}@${one.domain}`;
  const domain = findDomain(db, one.domain);
  const mailbox = findMailbox(db, local, one.domain);
  if (!domain || !mailbox) return;
  const { id, entry } = past(context, one, at, { kind: 'submitted', sender, to, subject, client: one.office });
  entry('connected', { client: one.office, helo: 'laptop.example', service: 'submission', tls: true, user: sender }, 0);
  entry('signed', { domain: one.domain, selector: listKeys(db, domain.id)[0]?.selector ?? '' }, 31);
  entry('accepted', { size: 2400 + (at % 9000), recipients: to.length }, 38);
  entry('charged', { sends: to.length }, 38);
  charge(db, { at: at + 38, domainId: domain.id, mailboxId: mailbox.id, journeyId: id, sends: to.length });
  for (const address of to) {
    const provider = PROVIDERS.find((known) => address.endsWith(`@${known.domain}`));
    if (!provider) continue;
    const recipientId = addRecipient(db, id, { address, domain: provider.domain, state: 'relayed', nextAttemptAt: null, at: at + 400 });
    const place = { recipient: address, host: `mx.${provider.domain}`, address: provider.address, tls: true };
    if (provider.temper === 'slow')
      entry(
        'delayed',
        {
          ...place,
          reply: '451 4.7.1 We do not know you yet; come again in a minute',
          status: '4.7.1',
          attempt: 1,
          nextAttemptAt: at + 60_000,
        },
        700,
      );
    // The choir's messages fail DMARC, and its own policy says reject.
    const refused = provider.temper === 'strict' && one.domain === 'coropuerto.example';
    const reply = refused
      ? "550 5.7.26 Refused by the DMARC policy of the author's domain: neither an aligned signature nor an aligned SPF pass"
      : '250 2.0.0 Kept';
    const after = provider.temper === 'slow' ? 61_000 : 420;
    entry(
      refused ? 'failed' : 'relayed',
      { ...place, reply, status: refused ? '5.7.26' : '2.0.0', attempt: provider.temper === 'slow' ? 2 : 1 },
      after,
    );
    changeRecipient(db, recipientId, {
      state: refused ? 'failed' : 'relayed',
      attempts: provider.temper === 'slow' ? 2 : 1,
      nextAttemptAt: null,
      reply,
      at: at + after,
    });
  }
}

function pastArrival(context: ServiceContext, one: DemoDomain, at: number, sender: string, subject: string): void {
  const to = `${one.mailboxes[0]}@${one.domain}`;
  const provider = PROVIDERS.find((known) => sender.endsWith(`@${known.domain}`));
  const client = provider?.address ?? '203.0.113.99';
  const { id, entry } = past(context, one, at, { kind: 'received', sender, to: [to], subject, client });
  entry('connected', { client, helo: `mx.${provider?.domain ?? 'other.example'}`, service: 'inbound', tls: true, user: null }, 0);
  const domain = sender.slice(sender.indexOf('@') + 1);
  entry(
    'judged',
    {
      judge: 'enforce',
      trusted: null,
      folder: 'Inbox',
      removed: 0,
      helo: { result: 'none', domain: `mx.${domain}` },
      spf: { result: 'pass', domain, reason: '', explanation: null },
      dkim: [],
      dmarc: { result: 'pass', domain, policy: 'reject', disposition: 'none', reason: `aligned SPF of ${domain}` },
    },
    9,
  );
  entry('accepted', { size: 2400 + (at % 9000), recipients: 1 }, 12);
  entry('delivered', { recipient: to, folder: 'Inbox' }, 12);
  addRecipient(context.db, id, { address: to, domain: one.domain, state: 'delivered', nextAttemptAt: null, at: at + 12 });
}

/** A newsletter that ran into the hourly limit within the last half hour: what fitted was sent, the rest refused. */
function newsletter(context: ServiceContext, now: number): void {
  const { db } = context;
  const one = DOMAINS.find((domain) => domain.domain === NEWSLETTER.domain);
  const domain = findDomain(db, NEWSLETTER.domain);
  if (!one || !domain) return;
  const limit = domain.hourLimit ?? 0;
  const used =
    db.one<{ n: number | null }>('SELECT sum(sends) AS n FROM ledger WHERE domain_id = ? AND at > ?', domain.id, now - HOUR)?.n ?? 0;
  const begun = now - 32 * 60_000;
  let sent = used;
  let at = begun;
  for (let batch = 0; sent < limit; batch += 1) {
    const size = Math.min(20, limit - sent);
    const to = Array.from(
      { length: size },
      (_none, index) => `reader${batch * 20 + index + 1}@${(PROVIDERS[index % 2] as { domain: string }).domain}`,
    );
    pastSubmission(context, one, at, NEWSLETTER.mailbox, to, NEWSLETTER.subject);
    sent += size;
    at += 20_000;
  }
  const room = new Date(Math.ceil((begun + HOUR) / 1000) * 1000).toISOString().slice(0, 19).replace('T', ' ');
  for (let refused = 0; refused < 4; refused += 1) {
    const when = at + refused * 45_000;
    const { entry } = past(context, one, when, {
      kind: 'submitted',
      outcome: 'refused',
      sender: `${NEWSLETTER.mailbox}@${one.domain}`,
      to: [`reader${sent + refused + 1}@northpost.example`],
      subject: '',
      client: one.office,
    });
    entry(
      'connected',
      { client: one.office, helo: 'press.example', service: 'submission', tls: true, user: `${NEWSLETTER.mailbox}@${one.domain}` },
      0,
    );
    entry(
      'refused',
      { reply: `452 4.7.28 ${one.domain} has used its limit of ${limit} sends per hour; there is room again at ${room} UTC` },
      4,
    );
  }
}
