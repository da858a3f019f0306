import { isIpAddress } from '../../core/address/ip-address.ts';
import { type Address, formatAddress, parseAddress } from '../../core/address/mailbox-address.ts';
import { amountsOf } from '../../core/limits/amounts.ts';
import { sameAddress } from '../../core/records/reverse-name.ts';
import type { Destination, RoutingStep } from '../../core/routing/recipients.ts';
import { Envelope, NO_RECIPIENT_PARAMETERS } from '../../core/smtp/server/envelope.ts';
import { postmasterAt } from '../../core/smtp/server/path.ts';
import { findDomain } from '../../store/domains.ts';
import { listKeys } from '../../store/keys.ts';
import { entryWords } from '../../texts/en/journal.ts';
import { knownDomain } from '../acceptance/routing.ts';
import { badInput } from '../base/problem.ts';
import { newJourneyId } from '../base/secrets.ts';
import { chooseOutlet, hostsOf } from '../delivery/choose-hosts.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import { explainSpf } from '../dns/spf.ts';
import { acceptSender } from '../reception/accept-sender.ts';
import { type Client, clientAt, type Refused } from '../reception/client.ts';
import { planRecipients, routeOf } from '../reception/plan-recipients.ts';
import { signerOf } from '../reception/submitter.ts';
import { Transaction } from '../reception/transaction.ts';
import type { OverviewDeps } from './deps.ts';

export interface ExplainStep {
  step: 'client' | 'sender' | 'recipient' | 'judgement' | 'limit' | 'way' | 'end';
  /** `stop`: the message ends here. */
  verdict: 'on' | 'note' | 'stop';
  text: string;
  /** What decided: a rule, setting or record by its name. */
  rule: string;
}

export interface Explanation {
  from: string;
  to: string;
  outcome: 'accepted' | 'refused' | 'held';
  steps: ExplainStep[];
}

export interface ExplainQuestion {
  from: string;
  to: string;
  /** The client's address; without it a client nobody knows is meant. */
  ip: string | null;
  /** Signed in as this mailbox. */
  as: string | null;
}

/** Ends the walk: the message would not go on from here. */
class Ended extends Error {}

/** A recipient as the port reads it: `postmaster` alone, or at an address of this host, is the host's own. */
function recipientOf({ host }: OverviewDeps, text: string): ReturnType<typeof parseAddress> {
  const at = postmasterAt(text);
  if (at === undefined) return parseAddress(text, true);
  if (at !== null && !host.addresses.some((one) => sameAddress(one, at)))
    return { kind: 'invalid', reason: 'that is not an address of this host' };
  return { kind: 'ok', address: { local: 'postmaster', domain: host.name } };
}

/** What would happen to a message, and by which rule. The same functions decide as for a real one; nothing is sent, charged or kept. */
export async function explain(context: OverviewDeps, question: ExplainQuestion): Promise<Explanation> {
  const from = question.from === '' || question.from === '<>' ? null : parseAddress(question.from, true);
  if (from?.kind === 'invalid')
    throw badInput(
      'from',
      `“${question.from.slice(0, 80)}” is not an address: ${from.reason}.`,
      'Write it like ana@shop.example, or <> for none.',
    );
  const to = recipientOf(context, question.to);
  if (to.kind === 'invalid')
    throw badInput('to', `“${question.to.slice(0, 80)}” is not an address: ${to.reason}.`, 'Write it like leo@northpost.example.');
  if (question.ip !== null && !isIpAddress(question.ip))
    throw badInput('ip', `“${question.ip.slice(0, 60)}” is not an address.`, 'Write it like 203.0.113.10.');
  const walk = new Walk(context, from?.address ?? null, to.address, question);
  let outcome: Explanation['outcome'] = 'accepted';
  try {
    if (await walk.run()) outcome = 'held';
  } catch (error) {
    if (!(error instanceof Ended)) throw error;
    outcome = 'refused';
  }
  return { from: question.from, to: question.to, outcome, steps: walk.steps };
}

class Walk {
  readonly steps: ExplainStep[] = [];
  private readonly client: Client;
  private readonly transaction: Transaction;

  constructor(
    private readonly context: OverviewDeps,
    private readonly sender: Address | null,
    private readonly recipient: Address,
    private readonly question: ExplainQuestion,
  ) {
    this.client = clientAt(context, question.ip ?? '');
    // Without an address there is none to look for in a list.
    if (question.ip === null) this.client.listed = Promise.resolve(null);
    const now = context.clock.now();
    this.transaction = new Transaction(context, newJourneyId(now), now, new Envelope(sender));
  }

  /** True when the message would wait under a limit. */
  async run(): Promise<boolean> {
    this.whoAsks();
    this.mayWrite();
    const destinations = await this.route();
    const isHeld = this.limit(destinations);
    if (!this.client.submitter) await this.judge();
    for (const one of destinations) {
      if (one.kind === 'mailbox') this.add('end', 'on', `into the mailbox ${one.address}`, 'mailbox');
      else if (one.kind === 'trial') this.add('end', 'on', 'to be scored, not delivered', 'trial');
      else if (one.kind === 'outside') await this.way(one.domain);
      else if (one.kind === 'unready')
        this.add('way', 'note', `${one.address} cannot receive mail now; the message is queued, and reported if delivery fails`, 'alias');
      else {
        const known = knownDomain(this.context, one.domain);
        const hand = known?.primaryServer ?? 'the server named in its MX';
        this.add('way', 'on', `handed to ${hand}`, known?.role === 'home' ? 'its mail has not moved here yet' : `role ${one.role}`);
      }
    }
    return isHeld;
  }

  private add(step: ExplainStep['step'], verdict: ExplainStep['verdict'], text: string, rule: string): void {
    this.steps.push({ step, verdict, text, rule });
  }

  private stop(step: ExplainStep['step'], { reply, rule }: Refused): never {
    this.add(step, 'stop', `${reply.code} ${reply.status} ${reply.text}`, rule);
    throw new Ended();
  }

  private whoAsks(): void {
    const { context, question, client } = this;
    if (question.as !== null) {
      const { id, address, domain, domainId } = requireMailbox(context, question.as);
      client.submitter = { kind: 'mailbox', mailbox: { id, address, domain, domainId, appPassword: null } };
      return this.add('client', 'on', `signed in as ${address}`, 'sign-in');
    }
    const network = knownNetworkOf(context.db, client.address);
    const rule = `network ${network?.cidr}`;
    if (network?.maySubmit)
      return this.add('client', 'on', `${client.address} is in ${network.cidr}, which may send without signing in`, rule);
    if (network) return this.add('client', 'on', `${client.address} is in ${network.cidr}: a trusted network`, rule);
    this.add('client', 'on', `${question.ip ?? 'some server'} delivers mail from outside`, 'port 25');
  }

  private mayWrite(): void {
    const { context, client, sender } = this;
    const refusal = acceptSender(context, client, this.transaction);
    if (refusal) this.stop('sender', refusal);
    if (!client.submitter) return;
    this.add(
      'sender',
      'on',
      `may write as ${sender === null ? '<>' : formatAddress(sender)}`,
      client.submitter.kind === 'mailbox' ? 'own address, alias or twin' : 'the network’s domains',
    );
  }

  private async route(): Promise<readonly Destination[]> {
    const { context, recipient } = this;
    const found = await routeOf(context, this.client, this.transaction, recipient);
    if (found.kind === 'refused') this.stop('recipient', found);
    const known = knownDomain(context, recipient.domain);
    const { steps, destinations } = found.routing;
    for (const step of steps) this.add('recipient', 'on', ruleWords(step), step.rule);
    if (known === null || known.role === 'away')
      this.add('recipient', 'on', `${recipient.domain} is outside`, known ? 'role away: never local' : 'not a domain of this server');
    else this.add('recipient', 'on', `delivers to ${destinations.map((one) => one.address).join(', ')}`, `role ${known.role}`);
    for (const one of destinations) {
      if (one.kind !== 'handed') continue;
      const hasList = knownDomain(context, one.domain)?.recipientList !== null;
      this.add('recipient', 'on', `${one.address} exists`, hasList ? 'the list of recipients' : 'its own server’s answer');
    }
    return destinations;
  }

  /** Whether it would wait. What is promised is given back before anybody else's turn: nobody is refused because somebody asked. */
  private limit(destinations: readonly Destination[]): boolean {
    const { context, transaction } = this;
    const asked = { written: formatAddress(this.recipient), parameters: NO_RECIPIENT_PARAMETERS };
    const refusal = planRecipients(context, this.client, transaction, { destinations }, asked);
    transaction.release();
    if (refusal) this.stop('limit', refusal);
    const { payer } = transaction;
    if (!payer) return false;
    const over = transaction.steps.find((one) => one.event === 'over-limit');
    if (over) {
      this.add('limit', 'note', entryWords('over-limit', over.data as Record<string, unknown>), 'when full: hold');
      return true;
    }
    const sends = [...transaction.planned.values()].filter((one) => one.isCharged).length;
    const left = context.limits.left(payer, amountsOf({ sends, bytes: 0 }));
    const who = payer.kind === 'forwarded' ? `${payer.domain}, which forwards` : (payer.mailbox ?? payer.domain);
    this.add(
      'limit',
      'on',
      `${sends === 1 ? 'one send is' : `${sends} sends are`} charged to ${who}${left ? `; ${left.left} left of ${left.limit}` : '; no limit applies'}`,
      left ? `limit of the ${left.of}` : 'no limit',
    );
    return false;
  }

  private async judge(): Promise<void> {
    const { context, sender, question } = this;
    if (question.ip === null) return this.add('judgement', 'note', 'SPF, DKIM and DMARC need the client’s address (--ip)', 'judge');
    if (sender === null)
      return this.add('judgement', 'note', 'an empty sender is judged by the greeting name, and by DKIM', 'RFC 7208 §2.4');
    const [spf] = await explainSpf(context, sender.domain, { ip: question.ip, sender: formatAddress(sender) });
    if (!spf) return;
    const verdict = spf.result === 'fail' || spf.result === 'softfail' ? 'note' : 'on';
    this.add('judgement', verdict, `SPF ${spf.result} for ${spf.domain}: ${spf.reason}`, spf.term ?? 'SPF');
    this.add(
      'judgement',
      'note',
      'the DMARC result depends on the message’s signatures',
      `judge ${findDomain(context.db, this.recipient.domain)?.judge ?? 'note'} of ${this.recipient.domain}`,
    );
  }

  private async way(destination: string): Promise<void> {
    const { context, sender } = this;
    const { submitter } = this.client;
    const senderDomain = submitter?.kind === 'mailbox' ? submitter.mailbox.domain : (sender?.domain ?? null);
    const choice = chooseOutlet(context, { senderDomain, destination }, null);
    if (choice.kind === 'wait') return this.add('way', 'note', `accepted, and waits: ${choice.reason}`, 'outlets');
    for (const one of choice.spent) this.add('way', 'note', `${one}: the next one takes it`, 'when spent: next');
    const hosts = await hostsOf(context, choice.outlet, destination, (values) => values);
    if (hosts.kind === 'hosts') {
      this.signature();
      return this.add(
        'way',
        'on',
        `leaves through “${choice.outlet.name}” for ${hosts.hosts.map((one) => `${one.name} [${one.address}]`).join(', then ')}`,
        `outlet ${choice.outlet.name}`,
      );
    }
    this.add(
      'way',
      'note',
      hosts.kind === 'never' ? `accepted, and returned: ${hosts.reason}` : `accepted, and waits: ${hosts.reason}`,
      `outlet ${choice.outlet.name}`,
    );
  }

  private signature(): void {
    const { context, sender } = this;
    const { submitter } = this.client;
    const domain = submitter && signerOf(context, submitter, sender ? formatAddress(sender) : '');
    const facts = domain ? knownDomain(context, domain) : null;
    const keys = facts ? listKeys(context.db, facts.id).filter((one) => one.state === 'active') : [];
    if (submitter && keys.length === 0) this.add('way', 'note', 'leaves unsigned', 'no DKIM key for the author’s domain');
    else if (keys.length > 0)
      this.add('way', 'on', `signed for ${domain} with the key ${keys.map((one) => one.selector).join(' and ')}`, `DKIM key of ${domain}`);
  }
}

function ruleWords(step: RoutingStep): string {
  switch (step.rule) {
    case 'twin':
      return `${step.from} is a twin of ${step.to}`;
    case 'tag':
      return `${step.from} is ${step.to} with a tag`;
    case 'return':
      return `a return address, delivered to ${step.to}`;
    case 'copy':
      return `${step.name} forwards a copy to ${step.to.join(', ')}`;
    default:
      return `${step.name} delivers to ${step.to.join(', ')}`;
  }
}
