import { isIpAddress } from '../core/address/ip-address.ts';
import { formatAddress, parseAddress } from '../core/address/mailbox-address.ts';
import type { RoutingStep } from '../core/routing/recipients.ts';
import { findDomain } from '../store/domains.ts';
import { listKeys } from '../store/keys.ts';
import { scopeName } from '../store/limits.ts';
import { listedBy } from './block-lists.ts';
import type { ServiceContext } from './context.ts';
import { limitWords, roomWords } from './limits.ts';
import { requireMailbox } from './mailboxes.ts';
import { trustedNetworkOf } from './networks.ts';
import { askPrimary } from './primary.ts';
import { badInput } from './problem.ts';
import { knownDomain, route } from './routing.ts';
import { explainSpf } from './spf.ts';
import { forwardingPayer, mayUse, notYours, payerOf, type Submitter, signerOf, stoppable } from './submitter.ts';
import { chooseOutlet, hostsOf } from './ways-out.ts';

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

/** What would happen to a message, and by which rule. The same functions decide as for a real one; nothing is sent, charged or kept. */
export async function explain(context: ServiceContext, question: ExplainQuestion): Promise<Explanation> {
  const from = question.from === '' || question.from === '<>' ? null : parseAddress(question.from, true);
  if (from?.kind === 'invalid')
    throw badInput(
      'from',
      `“${question.from.slice(0, 80)}” is no address: ${from.reason}.`,
      'Write it like ana@shop.example, or <> for none.',
    );
  const to = parseAddress(question.to, true);
  if (to.kind === 'invalid')
    throw badInput('to', `“${question.to.slice(0, 80)}” is no address: ${to.reason}.`, 'Write it like leo@northpost.example.');
  if (question.ip !== null && !isIpAddress(question.ip))
    throw badInput('ip', `“${question.ip.slice(0, 60)}” is no address.`, 'Write it like 203.0.113.10.');
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
  private submitter: Submitter | null = null;

  constructor(
    private readonly context: ServiceContext,
    private readonly sender: ReturnType<typeof addressOf>,
    private readonly recipient: NonNullable<ReturnType<typeof addressOf>>,
    private readonly question: ExplainQuestion,
  ) {}

  /** True when the message would wait under a limit. */
  async run(): Promise<boolean> {
    this.client();
    this.mayWrite();
    const destinations = await this.route();
    if (!this.submitter) await this.judge();
    let held = false;
    for (const one of destinations) {
      if (one.kind === 'mailbox') this.add('end', 'on', `into the mailbox ${one.address}`, 'mailbox');
      else if (one.kind === 'handed')
        this.add(
          'way',
          'on',
          `handed to ${knownDomain(this.context, one.domain)?.handTo ?? 'the server that its MX names'}`,
          `role ${one.role}`,
        );
      else {
        held = this.limit(one.payer) || held;
        await this.way(one.domain);
      }
    }
    return held;
  }

  private add(step: ExplainStep['step'], verdict: ExplainStep['verdict'], text: string, rule: string): void {
    this.steps.push({ step, verdict, text, rule });
  }

  private stop(step: ExplainStep['step'], text: string, rule: string): never {
    this.add(step, 'stop', text, rule);
    throw new Ended();
  }

  private client(): void {
    const { context, question } = this;
    if (question.as !== null) {
      const { id, address, domain, domainId } = requireMailbox(context, question.as);
      this.submitter = { kind: 'mailbox', mailbox: { id, address, domain, domainId } };
      return this.add('client', 'on', `signed in as ${address}`, 'sign-in');
    }
    const network = question.ip === null ? null : trustedNetworkOf(context.db, question.ip);
    if (network?.maySubmit) this.submitter = { kind: 'network', network };
    if (network?.maySubmit)
      return this.add('client', 'on', `${question.ip} is in ${network.cidr}, which may send without signing in`, `network ${network.cidr}`);
    if (network)
      return this.add('client', 'on', `${question.ip} is in ${network.cidr}: its mail is never held against it`, `network ${network.cidr}`);
    this.add('client', 'on', `${question.ip ?? 'some server'} brings mail from outside`, 'port 25');
  }

  private mayWrite(): void {
    const { context, submitter, sender } = this;
    if (!submitter) return;
    const written = sender === null ? '<>' : formatAddress(sender);
    if (sender && !mayUse(context, submitter, written)) {
      const reply = notYours(submitter, written);
      this.stop('sender', `${reply.code} ${reply.status} ${reply.text}`, 'a sender may use only its own addresses');
    }
    this.add(
      'sender',
      'on',
      `may write as ${written}`,
      submitter.kind === 'mailbox' ? 'own address, alias or twin' : 'the network’s domains',
    );
    const stopped = context.stops.find(stoppable(payerOf(context, submitter, sender)), 'sending');
    if (stopped) this.stop('sender', `450 4.7.1 ${stopped.text}`, stopped.kind);
  }

  private async route() {
    const { context, recipient, submitter } = this;
    const known = knownDomain(context, recipient.domain);
    if (!submitter && (known === null || known.role === 'away'))
      this.stop(
        'recipient',
        `550 5.7.1 Mail for ${recipient.domain} is not taken here`,
        known ? 'role away' : 'not a domain of this server: no relaying',
      );
    if (!submitter && this.question.ip !== null && trustedNetworkOf(context.db, this.question.ip) === null) {
      const list = await listedBy(context, this.question.ip);
      if (list !== null) this.stop('client', `554 5.7.1 ${this.question.ip} is on the block list ${list}`, `block list ${list}`);
    }
    const routing = route(context, recipient);
    const written = formatAddress(recipient);
    if (routing.kind === 'unknown-mailbox')
      this.stop('recipient', `550 5.1.1 There is no mailbox ${written}`, 'no mailbox, alias or catch-all');
    if (routing.kind === 'full') this.stop('recipient', `452 4.2.2 The mailbox ${routing.address} is full`, 'quota');
    if (routing.kind === 'loop') this.stop('recipient', `550 5.4.6 The alias ${routing.address} leads in a circle`, 'aliases');
    if (routing.kind === 'return-expired') this.stop('recipient', '550 5.1.6 That return address is no longer valid', 'return address');
    for (const step of routing.steps) this.add('recipient', 'on', ruleWords(step), step.rule);
    if (known === null || known.role === 'away')
      this.add('recipient', 'on', `${recipient.domain} is outside`, known ? 'role away: never local' : 'not a domain of this server');
    else this.add('recipient', 'on', `leads to ${routing.destinations.map((one) => one.address).join(', ')}`, `role ${known.role}`);
    for (const one of routing.destinations) {
      const name = one.address.slice(one.address.lastIndexOf('@') + 1);
      const domain = one.kind === 'outside' ? null : knownDomain(context, name);
      const mailboxId = one.kind === 'mailbox' ? one.mailboxId : null;
      const stopped = context.stops.find(
        stoppable({ mailboxId, domainId: domain?.id ?? null, customerId: domain?.customerId ?? null }),
        'receiving',
      );
      if (stopped) this.stop('recipient', `450 4.2.1 ${stopped.text}`, stopped.kind);
      if (one.kind !== 'handed' || !domain) continue;
      const answer = await askPrimary(context, one, domain);
      if (answer.kind === 'no')
        this.stop(
          'recipient',
          `550 5.1.1 ${answer.text || `There is no mailbox ${one.address}`}`,
          domain.standbyList === null ? 'its own server says so' : 'the list of recipients',
        );
      if (answer.kind === 'unknown')
        this.stop('recipient', `450 4.4.1 Whether ${one.address} exists can’t be asked just now`, 'its own server does not answer');
      this.add(
        'recipient',
        'on',
        `${one.address} exists`,
        domain.standbyList === null ? 'its own server said so' : 'the list of recipients',
      );
    }
    return routing.destinations;
  }

  private async judge(): Promise<void> {
    const { context, sender, question } = this;
    if (question.ip === null)
      return this.add('judgement', 'note', 'SPF, DKIM and DMARC can’t be told without the client’s address (--ip)', 'judge');
    if (sender === null)
      return this.add('judgement', 'note', 'an empty sender is judged by the greeting name, and by DKIM', 'RFC 7208 §2.4');
    const [spf] = await explainSpf(context, sender.domain, { ip: question.ip, sender: formatAddress(sender) });
    if (!spf) return;
    const verdict = spf.result === 'fail' || spf.result === 'softfail' ? 'note' : 'on';
    this.add('judgement', verdict, `SPF ${spf.result} for ${spf.domain}: ${spf.reason}`, spf.term ?? 'SPF');
    this.add(
      'judgement',
      'note',
      'what DMARC says depends on the signatures of the message itself',
      `judge ${findDomain(context.db, this.recipient.domain)?.judge ?? 'note'} of ${this.recipient.domain}`,
    );
  }

  /** Whether it would wait. */
  private limit(through: string | null): boolean {
    const { context, submitter, sender } = this;
    const payer = submitter ? payerOf(context, submitter, sender) : through === null ? null : forwardingPayer(context, through);
    if (!payer) return false;
    const { limits, db } = context;
    const stopped = context.stops.find(stoppable(payer), 'sending');
    if (stopped) this.stop('limit', `450 4.7.1 ${stopped.text}`, stopped.kind);
    const amounts = { messages: 1, sends: 1, bytes: 0 };
    const decision = limits.reserve(payer, amounts);
    const who = payer.kind === 'forwarded' ? `${payer.domain}, which forwards` : (payer.mailbox ?? payer.domain);
    if (decision.kind === 'room') {
      const left = limits.left(payer, amounts);
      limits.release(decision);
      this.add(
        'limit',
        'on',
        `one send is charged to ${who}${left ? `; ${left.left} left of ${left.limit}` : '; no limit stands in the way'}`,
        left ? `limit of the ${left.of}` : 'no limit',
      );
      return false;
    }
    const { scope } = decision;
    const words = `${scopeName(db, scope)} has used its limit of ${limitWords(decision.limit)}; ${roomWords(decision, limits.wholeSecond(decision.roomAt))}`;
    if (!decision.hold) this.stop('limit', `452 4.7.28 ${words}`, `limit of the ${scope.kind}`);
    this.add('limit', 'note', `${words}: it would wait here until then`, 'when full: hold');
    return true;
  }

  private async way(destination: string): Promise<void> {
    const { context, submitter, sender } = this;
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
    const { context, submitter, sender } = this;
    const domain = submitter && signerOf(context, submitter, sender ? formatAddress(sender) : '');
    const facts = domain ? knownDomain(context, domain) : null;
    const keys = facts ? listKeys(context.db, facts.id).filter((one) => one.state === 'active') : [];
    if (submitter && keys.length === 0) this.add('way', 'note', 'leaves unsigned', 'no DKIM key for the author’s domain');
    else if (keys.length > 0)
      this.add('way', 'on', `signed for ${domain} with the key ${keys.map((one) => one.selector).join(' and ')}`, `DKIM key of ${domain}`);
  }
}

const addressOf = (parsed: ReturnType<typeof parseAddress>) => (parsed.kind === 'ok' ? parsed.address : null);

function ruleWords(step: RoutingStep): string {
  switch (step.rule) {
    case 'twin':
      return `${step.from} is a twin of ${step.to}`;
    case 'tag':
      return `${step.from} is ${step.to} with a tag`;
    case 'return':
      return `a return address, which leads back to ${step.to}`;
    default:
      return `${step.name} leads to ${step.to.join(', ')}`;
  }
}
