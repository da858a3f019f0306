import ipaddr from 'ipaddr.js';
import { formatAddress } from '../../core/address/mailbox-address.ts';
import type { MessageSummary } from '../../core/message/submission.ts';
import { addressesThrough } from '../../core/routing/recipients.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import type { Envelope } from '../../core/smtp/server/envelope.ts';
import type { Intent, SessionFacts } from '../../core/smtp/server/intents.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { isNoSpace } from '../../store/no-space.ts';
import { recordRefusal } from '../acceptance/record-refusal.ts';
import { isRehearsalName } from '../access/passes.ts';
import type { Holder } from '../access/sessions.ts';
import { signInMailbox } from '../access/sign-in-mailbox.ts';
import { noteInClear, noteTlsFault } from '../access/sign-in-troubles.ts';
import { faultText } from '../base/problem.ts';
import { newJourneyId } from '../base/secrets.ts';
import { startQueue } from '../delivery/domain-queue.ts';
import { acceptSender } from './accept-sender.ts';
import { type Client, clientAt } from './client.ts';
import type { ReceptionDeps } from './deps.ts';
import { noteEarlyTalker } from './early-talkers.ts';
import { planRecipients, routeOf } from './plan-recipients.ts';
import { journeyFacts, takeMessage } from './take-message.ts';
import { Transaction } from './transaction.ts';

export interface Decision {
  accepted: boolean;
  reply: Reply;
}

/** Refusals of one transaction that are journalled; a scanner does not fill the disk. */
const MOST_REFUSALS = 5;

const yes = (reply: Reply): Decision => ({ accepted: true, reply });
const no = (reply: Reply): Decision => ({ accepted: false, reply });

/** Decides what one SMTP conversation asks: who signs in, who may send, where recipients lead, and takes the message over. */
export class Conversation {
  private readonly client: Client;
  private transaction: Transaction | null = null;
  /** Whether it is this service itself that tries what comes of it. */
  private isRehearsal = false;
  private isClosed = false;
  private endNow: (reply: Reply) => void = () => {};
  private leave: () => void = () => {};

  constructor(
    private readonly context: ReceptionDeps,
    private readonly service: 'inbound' | 'submission',
    address: string,
    /** By which the log and the journeys of its messages know it. */
    private readonly id: string,
  ) {
    this.client = clientAt(context, address);
    const { submitter } = this.client;
    if (submitter?.kind === 'network') this.holdAs({ network: submitter.network.id });
  }

  /** As the log has it. */
  private get who(): { client: string; conversation: string } {
    return { client: this.client.address, conversation: this.id };
  }

  ends(end: (reply: Reply) => void): void {
    this.endNow = end;
  }

  /** Whether this client may send without signing in. */
  get trusted(): boolean {
    return this.client.submitter?.kind === 'network';
  }

  /** Whether it comes from a network that is trusted. */
  get isKnown(): boolean {
    return this.client.isTrusted;
  }

  async decide(intent: Intent, facts: SessionFacts): Promise<Decision> {
    // What a client pipelined before it went away is not begun any more: nobody would release its room.
    if (this.isClosed) return no(REPLIES.storeFailed);
    try {
      return await this.answerTo(intent, facts);
    } catch (error) {
      // Whatever goes wrong, the client hears of it in words of the protocol, and comes again.
      this.context.log.error({ ...this.who, fault: faultText(error) }, 'a command could not be decided');
      return no(isNoSpace(error) ? REPLIES.busy : REPLIES.storeFailed);
    }
  }

  private answerTo(intent: Intent, facts: SessionFacts): Promise<Decision> {
    switch (intent.kind) {
      case 'sign-in':
        return this.signIn(intent.user, intent.password);
      case 'sender':
        return this.sender(intent.envelope, facts);
      case 'recipient':
        return this.recipient(intent);
      case 'message':
        return this.message(intent.content, facts);
      case 'start-queue':
        return this.startQueue(intent.argument);
    }
  }

  /** The message under way is given up. */
  abandon(): void {
    this.transaction?.envelope.end();
    this.transaction?.release();
    this.transaction = null;
  }

  closed(): void {
    this.isClosed = true;
    this.leave();
    this.abandon();
  }

  /** Ends with what was signed in with: nothing of a conversation under way is taken any more. */
  private holdAs(holder: Holder): void {
    this.leave = this.context.sessions.begin(holder, () => {
      this.isClosed = true;
      this.abandon();
      this.endNow(REPLIES.signInEnded(this.context.host.name));
    });
  }

  signInInClear(user: string | null): void {
    noteInClear(this.context, 'submission', this.client.address, user);
  }

  spokeEarly(reply: Reply): void {
    noteEarlyTalker(this.context, this.client.address, reply);
  }

  tlsFailed(reason: string): void {
    this.context.log.info({ ...this.who, reason }, 'tls-failed');
    if (this.service === 'submission') noteTlsFault(this.context, 'submission', this.client.address, reason);
  }

  fault(error: unknown): void {
    this.context.log.error({ ...this.who, fault: faultText(error) }, 'conversation ended by a fault');
    this.abandon();
  }

  private async signIn(user: string, password: string): Promise<Decision> {
    const result = await signInMailbox(this.context, user, password, { service: 'submission', clientAddress: this.client.address });
    if (result.kind === 'held') return no(REPLIES.signInHeld(result.seconds));
    if (result.kind === 'busy') return no(REPLIES.signInBusy);
    if (result.kind === 'wrong') return no(REPLIES.signInWrong);
    const { id, domainId, domain, appPassword } = result.mailbox;
    this.client.submitter = { kind: 'mailbox', mailbox: result.mailbox };
    this.leave();
    this.holdAs({
      mailbox: id,
      app_password: appPassword,
      domain: domainId,
      customer: findDomainFacts(this.context.db, domain)?.customerId ?? null,
    });
    return yes(REPLIES.signedIn);
  }

  private async sender(envelope: Envelope, facts: SessionFacts): Promise<Decision> {
    const { context } = this;
    const { address, submitter } = this.client;
    // While there is little room, it is for what is under way.
    if (!context.space.isEnough) return no(REPLIES.busy);
    const at = context.clock.now();
    this.abandon();
    const transaction = new Transaction(context, newJourneyId(at), at, envelope);
    transaction.domain = submitter?.kind === 'mailbox' ? submitter.mailbox.domain : null;
    transaction.step({
      event: 'connected',
      data: {
        client: address,
        conversation: this.id,
        helo: facts.helo.slice(0, 255),
        service: this.service,
        tls: facts.secure,
        user: submitter?.kind === 'mailbox' ? submitter.mailbox.address : null,
        ...(submitter?.kind === 'network' ? { network: submitter.network.cidr } : {}),
      },
    });
    this.transaction = transaction;
    // Of a host that is trusted it is enough that it says so.
    this.isRehearsal =
      context.passes.greetsAs(facts.helo, context.clock.steady()) || (this.client.isTrusted && isRehearsalName(facts.helo));
    const refusal = submitter ? acceptSender(context, this.client, transaction)?.reply : this.refuseStranger(facts);
    return refusal ? this.refuse(refusal) : yes(REPLIES.senderOk);
  }

  /** A server that greets as this one tells an untruth that no honest one tells. */
  private refuseStranger({ helo }: SessionFacts): Reply | null {
    if (this.client.isTrusted) return null;
    const { name, addresses } = this.context.host;
    const claimed = helo.toLowerCase().replace(/\.$/, '');
    const literal = /^\[(?:ipv6:)?(.+)\]$/.exec(claimed)?.[1];
    const ours =
      claimed === name ||
      (literal !== undefined &&
        ipaddr.isValid(literal) &&
        addresses.some((one) => ipaddr.process(one).toString() === ipaddr.process(literal).toString()));
    return ours && !addresses.includes(this.client.address) ? REPLIES.claimsOurName(helo.slice(0, 100)) : null;
  }

  private async recipient({ recipient, parameters }: Intent & { kind: 'recipient' }): Promise<Decision> {
    const { context, transaction } = this;
    if (!transaction) return no(REPLIES.mailFirst);
    const written = formatAddress(recipient);
    const found = await routeOf(context, this.client, transaction, recipient);
    if (found.kind === 'refused') return this.refuse(found.reply, written);
    if (!transaction.envelope.isOpen) return no(REPLIES.mailFirst);
    const { routing } = found;
    const full = planRecipients(context, this.client, transaction, routing, { written, parameters });
    if (full) return this.refuse(full.reply, written);
    const through = addressesThrough(routing.steps);
    if (through.length > 0)
      transaction.step({ event: 'expanded', data: { recipient: written, through, to: routing.destinations.map((one) => one.address) } });
    return yes(REPLIES.recipientOk);
  }

  private async message(content: Buffer, facts: SessionFacts): Promise<Decision> {
    const transaction = this.transaction;
    if (!transaction) return no(REPLIES.mailFirst);
    try {
      const taken = await this.context.taking.run(content.length, () =>
        takeMessage(this.context, this.client, transaction, content, facts),
      );
      if (taken.kind === 'refused') return this.refuse(taken.reply, undefined, taken.summary);
      this.transaction = null;
      return yes(REPLIES.accepted(transaction.id));
    } catch (error) {
      this.context.log.error({ journey: transaction.id, ...this.who, fault: faultText(error) }, 'message could not be stored');
      return await this.refuse(isNoSpace(error) ? REPLIES.busy : REPLIES.storeFailed);
    }
  }

  private async startQueue(argument: string): Promise<Decision> {
    const reply = await startQueue(this.context, argument, this.client.address);
    return reply.code < 300 ? yes(reply) : no(reply);
  }

  /** Says no, and journals it as long as anybody would want to read that. */
  private async refuse(reply: Reply, recipient?: string, summary: MessageSummary = NOTHING_READ): Promise<Decision> {
    const transaction = this.transaction;
    if (!transaction) return no(reply);
    // What we try ourselves is no news.
    if (this.isRehearsal) return no(reply);
    const at = this.context.clock.now();
    const text = recipient === undefined ? reply.text : `${reply.text} (${recipient})`;
    const line = `${reply.code} ${reply.status ?? ''} ${reply.text}`;
    transaction.refusals += 1;
    if (transaction.planned.size > 0 && recipient !== undefined) {
      // Others of this message may still be accepted: the refusal becomes one of its steps.
      if (transaction.refusals <= MOST_REFUSALS) transaction.steps.push({ at, event: 'refused', data: { recipient, reply: line } });
      return no(reply);
    }
    if (transaction.refusals > MOST_REFUSALS) return no(reply);
    const facts = journeyFacts(this.client, transaction, summary, { signsFor: null, isVouched: false, isDisowned: false });
    const { steps } = transaction;
    // What is in the journal now is not written again.
    transaction.steps = [];
    // That it can't be journalled is no reason not to say it.
    await recordRefusal(this.context, { ...facts, recipients: recipient ?? facts.recipients }, 0, steps, {
      ...reply,
      text,
      at,
    }).catch((error: unknown) =>
      this.context.log.error({ journey: transaction.id, ...this.who, fault: faultText(error) }, 'a refusal could not be journalled'),
    );
    return no(reply);
  }
}

const NOTHING_READ: MessageSummary = { subject: '', messageId: null };
