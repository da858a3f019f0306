import { acceptMessage, plainRecipient } from '../service/acceptance/accept-message.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { newJourneyId } from '../service/base/secrets.ts';
import { findDomain, findDomainFacts } from '../store/domains.ts';
import { addEntry, addJourney, addRecipient, addSteps, type NewRecipient, type Step } from '../store/journeys.ts';
import { listKeys } from '../store/keys.ts';
import { charge, chargedIn, chargeOutlet, noteOutcome } from '../store/ledger.ts';
import { findMailbox } from '../store/mailboxes.ts';
import { listOutlets } from '../store/outlets.ts';
import { changeRecipient } from '../store/queue.ts';
import { type DemoDomain, DOMAINS, NEWSLETTER, PROVIDERS, RELAY } from './world.ts';

const HOUR = 3_600_000;
/** Six weeks: long enough to know what is usual. */
const DAYS = 43;
/** Sends by hour of the day, UTC: an office. */
const SHAPE = [0, 0, 0, 0, 0, 0.2, 0.5, 1, 2, 3, 3, 2.5, 1.5, 1.5, 2.5, 2.5, 2, 1.5, 1, 0.7, 0.5, 0.4, 0.2, 0.1];
const WHOLE = SHAPE.reduce((sum, one) => sum + one, 0);

const PEOPLE = ['mar.soto', 'leo', 'irene.vidal', 'tom', 'carla', 'sam.ortega', 'vera', 'hugo', 'nadia', 'alba.cano', 'dani', 'rosa'];

const AT_ONCE = 100;

/** Some days of sending and receiving, up to now: ledger and journal agree as if it had happened. */
export async function seedHistory(context: ServiceContext, random: () => number): Promise<void> {
  const { db, clock } = context;
  const now = clock.now();
  const pick = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)] as T;
  // Written in the order of time, as it would have happened.
  const happenings: { at: number; happen: () => void }[] = [];
  const plan = (at: number, happen: () => void): void => {
    happenings.push({ at, happen });
  };
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
        const at = begin + Math.floor(random() * HOUR);
        const [mailbox, subject] = [pick(one.mailboxes), pick(one.subjects)];
        plan(at, () => pastSubmission(context, one, at, mailbox, [...new Set(to)], subject));
      }
      if (random() >= expected / 3) continue;
      const at = begin + Math.floor(random() * HOUR);
      const [from, subject] = [`${pick(PEOPLE)}@${pick(PROVIDERS).domain}`, `Re: ${pick(one.subjects)}`];
      plan(at, () => pastArrival(context, one, at, from, subject));
    }
  }
  happenings.sort((one, other) => one.at - other.at);
  // A little at a time: somebody is watching already.
  for (let begin = 0; begin < happenings.length; begin += AT_ONCE)
    await db.commit(() => {
      for (const { happen } of happenings.slice(begin, begin + AT_ONCE)) happen();
    });
  await db.commit(() => {
    topUp(context, now, 'tallernuno.example', 0.92, pick);
    newsletter(context, now);
  });
  // The windows were first looked at before there was any history.
  context.limits.readAnew();
  for (const one of DOMAINS) context.limits.review({ kind: 'domain', id: findDomain(db, one.domain)?.id ?? 0 });
  await seedTroubles(context);
}

/** What an administrator finds in the morning: a brake, a sender unlike itself, an outlet that has nothing left. */
async function seedTroubles(context: ServiceContext): Promise<void> {
  const { db, clock, limits } = context;
  const now = clock.now();
  // Too many of the newsletter's readers are gone: its mailbox is stopped.
  const news = `${NEWSLETTER.mailbox}@${NEWSLETTER.domain}`;
  await waitingNewsletters(context, news);
  const since = Math.floor((now - HOUR) / HOUR) * HOUR;
  const ended = (state: string): number =>
    db.one<{ n: number | null }>(
      'SELECT sum(sends) AS n FROM send_outcome WHERE mailbox = ? AND hour >= ? AND state = ?',
      news,
      since,
      state,
    )?.n ?? 0;
  await context.brakes.note({
    domain: NEWSLETTER.domain,
    mailbox: news,
    failed: ended('failed'),
    ended: ended('failed') + ended('relayed'),
  });
  // Somebody at the museum writes to everybody, in this very hour.
  const museum = DOMAINS.find((one) => one.domain === 'marisma-museum.example');
  const ines = findMailbox(db, 'ines', 'marisma-museum.example');
  const facts = findDomainFacts(db, 'marisma-museum.example');
  const hour = Math.floor(now / HOUR) * HOUR;
  if (museum && ines && facts) {
    const sends = 74;
    await db.commit(() => {
      for (let at = 0; at < sends; at += 1)
        pastSubmission(
          context,
          museum,
          Math.max(hour, now - (sends - at) * 20_000),
          'ines',
          [`friend${at + 1}@openbay.example`],
          'Become a friend of the museum',
        );
    });
    limits.readAnew();
    await context.unusual.note(
      {
        customerId: facts.customerId,
        domainId: facts.id,
        mailboxId: ines.id,
        networkId: null,
        domain: museum.domain,
        mailbox: ines.address,
        kind: 'submitted',
      },
      0,
    );
  }
  const relay = listOutlets(db).find((one) => one.kind === 'smart-host');
  if (relay) {
    await db.commit(() => {
      for (let at = 0; at < RELAY.daily; at += 4)
        chargeOutlet(db, relay.id, { at: now - 9 * HOUR + at * 60_000, journeyId: 'past', messages: 4, sends: 4, bytes: 16_000 });
    });
    limits.readAnew();
    limits.review({ kind: 'outlet', id: relay.id });
  }
}

/** Letters that were accepted before the mailbox was stopped, and still wait with a slow provider. */
async function waitingNewsletters(context: ServiceContext, news: string): Promise<void> {
  for (let at = 0; at < 6; at += 1) {
    const when = context.clock.now();
    const id = newJourneyId(when);
    const address = `reader${700 + at}@slowtide.example`;
    await acceptMessage(context, {
      journey: {
        id,
        at: when,
        kind: 'submitted',
        sender: news,
        recipients: address,
        subject: NEWSLETTER.subject,
        client: '198.51.100.99',
        domain: NEWSLETTER.domain,
        mailbox: news,
        messageId: `${id}@${NEWSLETTER.domain}`,
        envelopeId: null,
        returnContent: null,
        smtputf8: false,
        signsFor: null,
        isVouched: true,
      },
      content: Buffer.from(`From: <${news}>\r\nTo: <${address}>\r\nSubject: ${NEWSLETTER.subject}\r\n\r\nWinter cards are here.\r\n`),
      recipients: [{ ...plainRecipient({ kind: 'outside', address, domain: 'slowtide.example', payer: null }), held: 'brake' }],
      steps: [],
      folder: 'Inbox',
      payer: null,
    });
  }
}

/** Sends enough more in the last hours that the domain stands at `share` of its daily limit. */
function topUp(context: ServiceContext, now: number, name: string, share: number, pick: <T>(list: readonly T[]) => T): void {
  const { db } = context;
  const one = DOMAINS.find((domain) => domain.domain === name);
  const domain = findDomain(db, name);
  if (!one || !domain) return;
  const scope = { kind: 'domain' as const, id: domain.id };
  const used = chargedIn(db, scope, now - 24 * HOUR, now).sends;
  const missing = Math.floor(limitOf(context, domain.id, 'day') * share) - used;
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

const limitOf = (context: ServiceContext, id: number, period: 'hour' | 'day'): number =>
  context.limits.effective({ kind: 'domain', id }).find((one) => one.period === period && one.quantity === 'sends')?.amount ?? 0;

function pastJourney(
  context: ServiceContext,
  one: DemoDomain,
  at: number,
  facts: {
    kind: 'submitted' | 'received';
    outcome?: 'refused';
    sender: string;
    to: string[];
    subject: string;
    client: string;
    size: number;
  },
): string {
  const id = newJourneyId(at);
  addJourney(context.db, {
    id,
    at,
    kind: facts.kind,
    outcome: facts.outcome ?? 'accepted',
    sender: facts.sender,
    recipients: facts.to.join(', '),
    subject: facts.subject,
    size: facts.size,
    client: facts.client,
    domain: one.domain,
    file: null,
    mailbox: facts.kind === 'submitted' ? facts.sender : null,
    messageId: facts.outcome ? null : `${id}@${facts.sender.slice(facts.sender.lastIndexOf('@') + 1)}`,
    envelopeId: null,
    returnContent: null,
    smtputf8: false,
    signsFor: null,
    isVouched: true,
  });
  return id;
}

const NOTHING_ASKED: Pick<NewRecipient, 'held' | 'heldAt' | 'fullScope' | 'notify' | 'original' | 'onwardSender' | 'payer'> = {
  held: null,
  heldAt: null,
  fullScope: null,
  notify: null,
  original: null,
  onwardSender: null,
  payer: null,
};

/** A message that was sent at that time, and what became of it. `failing` gives the reply of a server that does not know the recipient. */
export function pastSubmission(
  context: ServiceContext,
  one: DemoDomain,
  at: number,
  local: string,
  to: string[],
  subject: string,
  failing: (address: string) => boolean = () => false,
): void {
  const { db } = context;
  const sender = `${local}@${one.domain}`;
  const domain = findDomainFacts(db, one.domain);
  const mailbox = findMailbox(db, local, one.domain);
  if (!domain || !mailbox) return;
  const size = 2400 + (at % 9000);
  const id = pastJourney(context, one, at, { kind: 'submitted', sender, to, subject, client: one.office, size });
  const steps: Step[] = [
    { at, event: 'connected', data: { client: one.office, helo: 'laptop.example', service: 'submission', tls: true, user: sender } },
    { at: at + 38, event: 'accepted', data: { size, recipients: to.length } },
    { at: at + 38, event: 'charged', data: { messages: 1, sends: to.length, bytes: size, to: sender, left: null } },
  ];
  charge(db, {
    at: at + 38,
    customerId: domain.customerId,
    domainId: domain.id,
    mailboxId: mailbox.id,
    networkId: null,
    domain: one.domain,
    mailbox: sender,
    kind: 'submitted',
    journeyId: id,
    messages: 1,
    sends: to.length,
    bytes: size,
  });
  steps.push({ at: at + 420, event: 'signed', data: { domain: one.domain, selector: listKeys(db, domain.id)[0]?.selector ?? '' } });
  for (const address of to) {
    const provider = PROVIDERS.find((known) => address.endsWith(`@${known.domain}`));
    if (!provider) continue;
    const place = { recipient: address, host: `mx.${provider.domain}`, address: provider.address, tls: 'TLSv1.3', outlet: 'direct' };
    const isSlow = provider.temper === 'slow';
    if (isSlow)
      steps.push({
        at: at + 700,
        event: 'delayed',
        data: {
          ...place,
          reply: '451 4.7.1 We do not know you yet; come again in a minute',
          status: '4.7.1',
          attempt: 1,
          nextAttemptAt: at + 60_000,
        },
      });
    // The choir's messages fail DMARC, and its own policy says reject.
    const refused = provider.temper === 'strict' && one.domain === 'coropuerto.example';
    const failed = refused || failing(address);
    const reply = refused
      ? "550 5.7.26 Refused by the DMARC policy of the author's domain: neither an aligned signature nor an aligned SPF pass"
      : failed
        ? `550 5.1.1 Nobody is called ${address}`
        : '250 2.0.0 Kept';
    const after = isSlow ? 61_000 : 420;
    const state = failed ? 'failed' : 'relayed';
    steps.push({
      at: at + after,
      event: state,
      data: { ...place, reply, status: failed ? reply.slice(4, 10).trim() : '2.0.0', attempt: isSlow ? 2 : 1 },
    });
    const recipient = addRecipient(db, id, {
      ...NOTHING_ASKED,
      address,
      domain: provider.domain,
      senderDomain: one.domain,
      state,
      nextAttemptAt: null,
      at: at + after,
      isCharged: true,
    });
    changeRecipient(db, recipient, { state, attempts: isSlow ? 2 : 1, nextAttemptAt: null, reply, at: at + after });
    noteOutcome(db, { domain: one.domain, mailbox: sender, at: at + after, state });
  }
  addSteps(db, id, one.domain, steps);
}

function pastArrival(context: ServiceContext, one: DemoDomain, at: number, sender: string, subject: string): void {
  const to = `${one.mailboxes[0]}@${one.domain}`;
  const provider = PROVIDERS.find((known) => sender.endsWith(`@${known.domain}`));
  const client = provider?.address ?? '203.0.113.99';
  const size = 2400 + (at % 9000);
  const id = pastJourney(context, one, at, { kind: 'received', sender, to: [to], subject, client, size });
  const domain = sender.slice(sender.indexOf('@') + 1);
  addSteps(context.db, id, one.domain, [
    {
      at,
      event: 'connected',
      data: { client, helo: `mx.${provider?.domain ?? 'other.example'}`, service: 'inbound', tls: true, user: null },
    },
    {
      at: at + 9,
      event: 'judged',
      data: {
        judge: 'enforce',
        trusted: null,
        folder: 'Inbox',
        removed: 0,
        helo: { result: 'none', domain: `mx.${domain}` },
        spf: { result: 'pass', domain, reason: '', explanation: null },
        dkim: [],
        dmarc: { result: 'pass', domain, policy: 'reject', disposition: 'none', reason: `aligned SPF of ${domain}` },
      },
    },
    { at: at + 12, event: 'accepted', data: { size, recipients: 1 } },
    { at: at + 12, event: 'delivered', data: { recipient: to, folder: 'Inbox' } },
  ]);
  addRecipient(context.db, id, {
    ...NOTHING_ASKED,
    address: to,
    domain: one.domain,
    senderDomain: one.domain,
    state: 'delivered',
    nextAttemptAt: null,
    at: at + 12,
    isCharged: false,
  });
}

/** A newsletter that ran into the hourly limit within the last half hour: what fitted was sent, the rest refused. */
function newsletter(context: ServiceContext, now: number): void {
  const { db } = context;
  const one = DOMAINS.find((domain) => domain.domain === NEWSLETTER.domain);
  const domain = findDomain(db, NEWSLETTER.domain);
  if (!one || !domain) return;
  const limit = limitOf(context, domain.id, 'hour');
  const used = chargedIn(db, { kind: 'domain', id: domain.id }, now - HOUR, now).sends;
  const begun = now - 32 * 60_000;
  let sent = used;
  let at = begun;
  for (let batch = 0; sent < limit; batch += 1) {
    const size = Math.min(20, limit - sent);
    const to = Array.from(
      { length: size },
      (_none, index) => `reader${batch * 20 + index + 1}@${(PROVIDERS[index % 2] as { domain: string }).domain}`,
    );
    // Many addresses of an old list are gone.
    pastSubmission(
      context,
      one,
      at,
      NEWSLETTER.mailbox,
      to,
      NEWSLETTER.subject,
      (address) => address.endsWith('northpost.example') && /[1-79]@/.test(address),
    );
    sent += size;
    at += 20_000;
  }
  const room = new Date(Math.ceil((begun + HOUR + 60_000) / 1000) * 1000).toISOString().slice(0, 19).replace('T', ' ');
  for (let refused = 0; refused < 4; refused += 1) {
    const when = at + refused * 45_000;
    const user = `${NEWSLETTER.mailbox}@${one.domain}`;
    const to = [`reader${sent + refused + 1}@northpost.example`];
    const id = pastJourney(context, one, when, {
      kind: 'submitted',
      outcome: 'refused',
      sender: user,
      to,
      subject: '',
      client: one.office,
      size: 0,
    });
    addSteps(db, id, one.domain, [
      { at: when, event: 'connected', data: { client: one.office, helo: 'press.example', service: 'submission', tls: true, user } },
    ]);
    const reply = `452 4.7.28 ${one.domain} has used its limit of ${limit} sends per hour; there is room again at ${room} UTC`;
    addEntry(db, { at: when + 4, journeyId: id, domain: one.domain, event: 'refused', data: { reply } });
  }
}
