import { acceptMessage } from '../service/acceptance/accept-message.ts';
import { plainRecipient } from '../service/acceptance/planned-recipient.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { newJourneyId } from '../service/base/secrets.ts';
import { findDomain, findDomainFacts } from '../store/domains.ts';
import { addEntry, addSteps } from '../store/journeys.ts';
import { chargedIn, chargeOutlet } from '../store/ledger.ts';
import { findMailbox } from '../store/mailboxes.ts';
import { listOutlets } from '../store/outlets.ts';
import { HOUR, PEOPLE, pastJourney, pastSubmission } from './past-journeys.ts';
import { DOMAINS, NEWSLETTER, PROVIDERS, RELAY } from './world.ts';

/** What an administrator finds in the morning: a brake, a sender unlike itself, an outlet that has nothing left. */
export async function seedTroubles(context: ServiceContext): Promise<void> {
  const { db, clock, limits } = context;
  const now = clock.now();
  // Too many of the newsletter's readers are gone: its mailbox is stopped.
  const news = `${NEWSLETTER.mailbox}@${NEWSLETTER.domain}`;
  await waitingNewsletters(context, news);
  const since = Math.floor((now - HOUR) / HOUR) * HOUR;
  const ended = (state: string): number =>
    db.one<{ n: number | null }>(
      'SELECT sum(sends) AS n FROM send_outcome WHERE mailbox_id = ? AND hour >= ? AND state = ?',
      findMailbox(db, NEWSLETTER.mailbox, NEWSLETTER.domain)?.id ?? 0,
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
        chargeOutlet(db, relay.id, { messages: 4, sends: 4, bytes: 16_000 }, { at: now - 9 * HOUR + at * 60_000, journeyId: 'past' });
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
        isDisowned: false,
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
export function topUp(context: ServiceContext, now: number, name: string, share: number, pick: <T>(list: readonly T[]) => T): void {
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

/** A newsletter that ran into the hourly limit within the last half hour: what fitted was sent, the rest refused. */
export function newsletter(context: ServiceContext, now: number): void {
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
