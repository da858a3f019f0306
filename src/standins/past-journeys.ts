import { domainSide } from '../core/address/sides.ts';
import { amountsOf } from '../core/limits/amounts.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { newJourneyId } from '../service/base/secrets.ts';
import { findDomainFacts } from '../store/domains.ts';
import {
  addJourney,
  addRecipient,
  addSteps,
  findJourney,
  type JourneyFacts,
  type JourneyStep,
  type RecipientTerms,
} from '../store/journeys.ts';
import { listKeys } from '../store/keys.ts';
import { charge, noteOutcome, type Payer } from '../store/ledger.ts';
import { findMailbox } from '../store/mailboxes.ts';
import { changeRecipient } from '../store/queue.ts';
import { type DemoDomain, PROVIDERS } from './world.ts';

export const HOUR = 3_600_000;

/** The journey that documents and `--help` show: the first message that this sender has sent. */
const EXAMPLE = { id: 'cazdb9jdtvhh', sender: 'ana@olmobakery.example' };

export const PEOPLE = [
  'mar.soto',
  'leo',
  'irene.vidal',
  'tom',
  'carla',
  'sam.ortega',
  'vera',
  'hugo',
  'nadia',
  'alba.cano',
  'dani',
  'rosa',
];

export function pastJourney(
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
  const isExample = facts.sender === EXAMPLE.sender && facts.kind === 'submitted' && findJourney(context.db, EXAMPLE.id) === undefined;
  const id = isExample ? EXAMPLE.id : newJourneyId(at);
  const journey: JourneyFacts = {
    id,
    at,
    kind: facts.kind,
    sender: facts.sender,
    recipients: facts.to.join(', '),
    subject: facts.subject,
    client: facts.client,
    domain: one.domain,
    mailbox: facts.kind === 'submitted' ? facts.sender : null,
    messageId: facts.outcome ? null : `${id}@${domainSide(facts.sender)}`,
    envelopeId: null,
    returnContent: null,
    smtputf8: false,
    signsFor: null,
    isVouched: true,
    isDisowned: false,
  };
  addJourney(context.db, journey, { outcome: facts.outcome ?? 'accepted', file: null, size: facts.size });
  return id;
}

/** Terms of a recipient about whom nothing special was asked. */
export const nothingAsked = (isCharged: boolean): RecipientTerms => ({
  held: null,
  fullScope: null,
  isCharged,
  notify: null,
  original: null,
  onwardSender: null,
});

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
  const steps: JourneyStep[] = [
    { at, event: 'connected', data: { client: one.office, helo: 'laptop.example', service: 'submission', tls: true, user: sender } },
    { at: at + 38, event: 'accepted', data: { size, recipients: to.length } },
    { at: at + 38, event: 'charged', data: { messages: 1, sends: to.length, bytes: size, to: sender, left: null } },
  ];
  const payer: Payer = {
    customerId: domain.customerId,
    domainId: domain.id,
    mailboxId: mailbox.id,
    networkId: null,
    domain: one.domain,
    mailbox: sender,
    kind: 'submitted',
  };
  charge(db, payer, amountsOf({ sends: to.length, bytes: size }), { at: at + 38, journeyId: id });
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
    const recipient = addRecipient(db, id, nothingAsked(true), {
      address,
      domain: provider.domain,
      senderDomain: one.domain,
      state,
      nextAttemptAt: null,
      at: at + after,
      heldAt: null,
      payer: null,
    });
    changeRecipient(db, recipient, { state, attempts: isSlow ? 2 : 1, nextAttemptAt: null, reply, at: at + after });
    noteOutcome(db, { domain: { id: domain.id, name: one.domain }, mailboxId: mailbox.id, acceptedAt: at, at: at + after, state });
  }
  addSteps(db, id, one.domain, steps);
}

export function pastArrival(context: ServiceContext, one: DemoDomain, at: number, sender: string, subject: string): void {
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
  addRecipient(context.db, id, nothingAsked(false), {
    address: to,
    domain: one.domain,
    senderDomain: one.domain,
    state: 'delivered',
    nextAttemptAt: null,
    at: at + 12,
    heldAt: null,
    payer: null,
  });
}
