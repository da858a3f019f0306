import ipaddr from 'ipaddr.js';
import { type Address, formatAddress } from '../core/address/mailbox-address.ts';
import { missingFields, readSubmission, summaryOf } from '../core/message/submission.ts';
import { receivedField } from '../core/message/trace.ts';
import { type Destination, wayThrough } from '../core/routing/recipients.ts';
import { returnAddress } from '../core/routing/return-address.ts';
import type { MailParameters, RecipientParameters } from '../core/smtp/command.ts';
import { REPLIES, type Reply } from '../core/smtp/replies.ts';
import type { Intent, Protocol } from '../core/smtp/server-session.ts';
import { acceptMessage, plainly, recordRefusal } from './accept-message.ts';
import { listedBy } from './block-lists.ts';
import type { ServiceContext } from './context.ts';
import { startQueue } from './domain-queue.ts';
import { judgeArrival } from './judge.ts';
import { trustedNetworkOf } from './networks.ts';
import { askPrimary } from './primary.ts';
import { reportGoodNews } from './report-delivery.ts';
import { HOST_ITSELF, knownDomain, mustReachSomebody, route } from './routing.ts';
import { newJourneyId } from './secrets.ts';
import { signInMailbox } from './sign-in-mailbox.ts';
import { forwardingPayer, mayUse, notYours, payerOf, type Submitter, signerOf, stoppable } from './submitter.ts';
import { Transaction } from './transaction.ts';

export interface SessionFacts {
  helo: string;
  protocol: Protocol;
  secure: boolean;
  user: string | null;
}

export interface Decision {
  accepted: boolean;
  reply: Reply;
}

/** Refusals of one transaction that are journalled; a scanner does not fill the disk. */
const MOST_REFUSALS = 5;
/** Text of messages that are being accepted at this moment, over all conversations. */
const MOST_IN_MEMORY = 512 * 1024 * 1024;
let inMemory = 0;

const yes = (reply: Reply): Decision => ({ accepted: true, reply });
const no = (reply: Reply): Decision => ({ accepted: false, reply });

/** Decides what one SMTP conversation asks: who signs in, who may send, where recipients lead, and takes the message over. */
export class Conversation {
  /** Who sends from here to the outside; null for a server that brings mail. */
  private submitter: Submitter | null = null;
  private transaction: Transaction | null = null;
  private isClosed = false;
  /** The block list that has the client's address, looked up once. */
  private listed: Promise<string | null> | null = null;
  /** Whether the client's network is trusted, and so never judged by its greeting or by lists. */
  private readonly isTrusted: boolean;

  constructor(
    private readonly context: ServiceContext,
    private readonly service: 'inbound' | 'submission',
    private readonly clientAddress: string,
  ) {
    const network = trustedNetworkOf(context.db, clientAddress);
    this.isTrusted = network !== null;
    if (network?.maySubmit) this.submitter = { kind: 'network', network };
  }

  /** Whether this client may send without signing in. */
  get trusted(): boolean {
    return this.submitter?.kind === 'network';
  }

  /** Whether it comes from a network that is trusted. */
  get isKnown(): boolean {
    return this.isTrusted;
  }

  async decide(intent: Intent, facts: SessionFacts): Promise<Decision> {
    // What a client pipelined before it went away is not begun any more: nobody would release its room.
    if (this.isClosed) return no(REPLIES.storeFailed);
    switch (intent.kind) {
      case 'sign-in':
        return this.signIn(intent.user, intent.password);
      case 'sender':
        return this.sender(intent.sender, intent.parameters, facts);
      case 'recipient':
        return this.recipient(intent.recipient, intent.parameters);
      case 'message':
        return this.message(intent.content, facts);
      case 'start-queue':
        return this.startQueue(intent.argument);
    }
  }

  /** The message under way is given up. */
  abandon(): void {
    this.transaction?.release();
    this.transaction = null;
  }

  closed(): void {
    this.isClosed = true;
    this.abandon();
  }

  note(event: string, data: object): void {
    this.context.log.info({ client: this.clientAddress, ...data }, event);
  }

  fault(error: unknown): void {
    this.context.log.error(
      { client: this.clientAddress, fault: String((error as Error)?.stack ?? error) },
      'conversation ended by a fault',
    );
    this.abandon();
  }

  private async signIn(user: string, password: string): Promise<Decision> {
    const result = await signInMailbox(this.context, user, password, this.clientAddress);
    if (result.kind === 'held') return no(REPLIES.signInHeld(result.seconds));
    if (result.kind === 'wrong') return no(REPLIES.signInWrong);
    this.submitter = { kind: 'mailbox', mailbox: result.mailbox };
    return yes(REPLIES.signedIn);
  }

  private async sender(sender: Address | null, parameters: MailParameters, facts: SessionFacts): Promise<Decision> {
    const { context, submitter } = this;
    const at = context.clock.now();
    this.abandon();
    const transaction = new Transaction(context, newJourneyId(at), at, sender, parameters);
    transaction.domain = submitter?.kind === 'mailbox' ? submitter.mailbox.domain : null;
    transaction.step('connected', {
      client: this.clientAddress,
      helo: facts.helo.slice(0, 255),
      service: this.service,
      tls: facts.secure,
      user: submitter?.kind === 'mailbox' ? submitter.mailbox.address : null,
      ...(submitter?.kind === 'network' ? { network: submitter.network.cidr } : {}),
    });
    this.transaction = transaction;
    const refusal = submitter ? this.refuseSubmitter(submitter, sender, parameters) : this.refuseStranger(facts);
    return refusal ? this.refuse(refusal) : yes(REPLIES.senderOk);
  }

  private refuseSubmitter(submitter: Submitter, sender: Address | null, { size }: MailParameters): Reply | null {
    const { context, transaction } = this;
    // The empty sender is for answers by programs (RFC 5321 §4.5.5, RFC 8098 §2.1); who writes stands in the From field all the same.
    if (sender && !mayUse(context, submitter, formatAddress(sender))) return notYours(submitter, formatAddress(sender));
    const payer = payerOf(context, submitter, sender);
    if (transaction) transaction.submittedBy = payer;
    if (transaction && payer.domainId !== null) transaction.domain = payer.domain;
    const stop = context.stops.find(stoppable(payer), 'sending');
    if (stop) return REPLIES.sendingStopped(stop.text);
    const most = payer.domainId === null ? null : (knownDomain(context, payer.domain)?.mostBytes ?? null);
    if (transaction && most !== null) transaction.smallest = { domain: payer.domain, most };
    return most !== null && size !== null && size > most ? REPLIES.domainTooBig(payer.domain, most) : null;
  }

  /** A server that greets as this one tells an untruth that no honest one tells. */
  private refuseStranger({ helo }: SessionFacts): Reply | null {
    if (this.isTrusted) return null;
    const { name, addresses } = this.context.host;
    const claimed = helo.toLowerCase().replace(/\.$/, '');
    const literal = /^\[(?:ipv6:)?(.+)\]$/.exec(claimed)?.[1];
    const ours =
      claimed === name ||
      (literal !== undefined &&
        ipaddr.isValid(literal) &&
        addresses.some((one) => ipaddr.process(one).toString() === ipaddr.process(literal).toString()));
    return ours && !addresses.includes(this.clientAddress) ? REPLIES.claimsOurName(helo.slice(0, 100)) : null;
  }

  private async recipient(recipient: Address, parameters: RecipientParameters): Promise<Decision> {
    const { context, transaction, submitter } = this;
    if (!transaction) return no(REPLIES.mailFirst);
    const written = formatAddress(recipient);
    const known = knownDomain(context, recipient.domain);
    const isHere = known !== null && known.role !== 'away';
    if (!submitter) {
      transaction.domain ??= isHere ? recipient.domain : null;
      if (!isHere) return this.refuse(REPLIES.noRelay(recipient.domain), written);
      const list = mustReachSomebody(recipient.local) || this.isTrusted ? null : await this.blockList();
      if (list !== null) return this.refuse(REPLIES.blockListed(this.clientAddress, list), written);
      if (known.mostBytes !== null) {
        if ((transaction.parameters.size ?? 0) > known.mostBytes)
          return this.refuse(REPLIES.domainTooBig(recipient.domain, known.mostBytes), written);
        if (known.mostBytes < (transaction.smallest?.most ?? Number.POSITIVE_INFINITY))
          transaction.smallest = { domain: recipient.domain, most: known.mostBytes };
      }
    }
    const routing = route(context, recipient);
    switch (routing.kind) {
      case 'unknown-mailbox':
        // As long as the host's postmaster is not set up, such mail waits with its sender instead of being lost.
        return this.refuse(mustReachSomebody(recipient.local) ? REPLIES.nobodyYet(written) : REPLIES.unknownMailbox(written), written);
      case 'full':
        return this.refuse(REPLIES.mailboxFull(routing.address), written);
      case 'loop':
        return this.refuse(REPLIES.aliasLoop(routing.address), written);
      case 'return-expired':
        return this.refuse(REPLIES.returnExpired, written);
    }
    if (routing.steps.some((one) => one.rule === 'return') && transaction.sender !== null)
      return this.refuse(REPLIES.returnForBounces, written);
    // Postmaster and abuse of the host itself go along with whoever else gets the message.
    if (!submitter && known && known.id !== HOST_ITSELF) {
      if (transaction.judge !== null && transaction.judge !== known.judge) return this.refuse(REPLIES.otherJudge, written);
      transaction.judge = known.judge;
    }
    const refusal = await this.refuseDestinations(routing.destinations, known);
    if (refusal) return this.refuse(refusal, written);
    if (this.transaction !== transaction) return no(REPLIES.mailFirst);
    const fresh = routing.destinations.filter((one) => !transaction.planned.has(one.address));
    const full = this.plan(transaction, fresh, written, parameters, routing.destinations.length > 1);
    if (full) return this.refuse(full, written);
    transaction.recipients.push(written);
    const through = wayThrough(routing.steps);
    if (through.length > 0)
      transaction.step('expanded', { recipient: written, through, to: routing.destinations.map((one) => one.address) });
    return yes(REPLIES.recipientOk);
  }

  private blockList(): Promise<string | null> {
    this.listed ??= listedBy(this.context, this.clientAddress);
    return this.listed;
  }

  /** What stands in the way of a destination: a pause, or the server that has its mailboxes. */
  private async refuseDestinations(destinations: readonly Destination[], known: ReturnType<typeof knownDomain>): Promise<Reply | null> {
    const { context } = this;
    for (const one of destinations) {
      const name = one.address.slice(one.address.lastIndexOf('@') + 1);
      const domain = one.kind === 'outside' ? null : knownDomain(context, name);
      const mailboxId = one.kind === 'mailbox' ? one.mailboxId : null;
      const stop = context.stops.find(
        stoppable({ mailboxId, domainId: domain?.id ?? null, customerId: domain?.customerId ?? null }),
        'receiving',
      );
      if (stop) return REPLIES.receivingStopped(stop.text);
      if (one.kind !== 'handed' || !domain) continue;
      const answer = await askPrimary(context, one, domain);
      if (answer.kind === 'no')
        return answer.text === '' ? REPLIES.unknownMailbox(one.address) : REPLIES.primaryRefuses(one.address, answer.text);
      if (answer.kind === 'unknown') return REPLIES.primaryUnknown(one.address);
    }
    // The domain that was written may be paused itself, though its alias leads elsewhere.
    const stop = known
      ? context.stops.find(stoppable({ mailboxId: null, domainId: known.id, customerId: known.customerId }), 'receiving')
      : null;
    return stop ? REPLIES.receivingStopped(stop.text) : null;
  }

  /** Notes new destinations, with room for those that somebody pays for; a reply when there is none. */
  private plan(
    transaction: Transaction,
    fresh: readonly Destination[],
    written: string,
    { notify, original }: RecipientParameters,
    isExpanded: boolean,
  ): Reply | null {
    const { context } = this;
    const paid = fresh.filter((one) => one.kind === 'outside');
    const through = paid.find((one) => one.payer !== null)?.payer ?? null;
    const payer = transaction.submittedBy ?? (through === null ? null : forwardingPayer(context, through));
    let holdAccount: string | null = null;
    if (paid.length > 0 && payer) {
      const stop = context.stops.find(stoppable(payer), 'sending');
      if (stop) return REPLIES.sendingStopped(stop.text);
      const promised = transaction.promise(payer, paid.length);
      if (promised.kind === 'refused') return promised.reply;
      if (promised.kind === 'held') holdAccount = promised.account;
    }
    // RFC 3461 §5.2.7: for an address that leads to several, success is told here once.
    const words = isExpanded ? (notify?.filter((one) => one !== 'SUCCESS') ?? null) : notify;
    if (isExpanded && notify?.includes('SUCCESS')) transaction.expanded.push({ recipient: written, original });
    for (const one of fresh) {
      const isPaid = one.kind === 'outside' && payer !== null;
      transaction.planned.set(one.address, {
        ...plainly(one),
        held: isPaid && holdAccount !== null ? 'limit' : null,
        holdAccount: isPaid ? holdAccount : null,
        charged: isPaid && holdAccount === null,
        notify: words === null ? null : words.length === 0 ? 'NEVER' : words.join(','),
        original,
        sendAs: this.sendAs(transaction, one),
      });
    }
    return null;
  }

  /** Mail from outside that a domain leads out again goes as from an address of that domain, so that SPF passes for it. */
  private sendAs(transaction: Transaction, one: Destination): string | null {
    if (this.submitter || one.kind !== 'outside' || one.payer === null || transaction.sender === null) return null;
    if (knownDomain(this.context, transaction.sender.domain)?.role === 'home') return null;
    return returnAddress(transaction.id, one.payer, this.context.returnKey);
  }

  private async message(content: Buffer, facts: SessionFacts): Promise<Decision> {
    const transaction = this.transaction;
    if (!transaction) return no(REPLIES.mailFirst);
    if (inMemory + content.length > MOST_IN_MEMORY) return this.refuse(REPLIES.busy);
    inMemory += content.length;
    try {
      return await this.take(transaction, content, facts);
    } catch (error) {
      this.context.log.error({ journey: transaction.id, fault: String((error as Error)?.stack ?? error) }, 'message could not be stored');
      return await this.refuse(REPLIES.storeFailed);
    } finally {
      inMemory -= content.length;
    }
  }

  private async take(transaction: Transaction, content: Buffer, facts: SessionFacts): Promise<Decision> {
    const { context } = this;
    const { id, at, smallest } = transaction;
    const summary = summaryOf(content);
    if (smallest && content.length > smallest.most)
      return this.refuse(REPLIES.domainTooBig(smallest.domain, smallest.most), undefined, summary);
    const full = transaction.fit(content.length);
    if (full) return this.refuse(full, undefined, summary);
    const now = context.clock.now();
    const prepared: Prepared = this.submitter
      ? this.prepare(this.submitter, transaction, content)
      : await this.judge(transaction, content, facts.helo);
    if (prepared.kind === 'refused') return this.refuse(prepared.reply, undefined, summary);
    // The client went away while keys or name servers were asked: its room is free again, and nobody waits for an answer.
    if (this.transaction !== transaction) return no(REPLIES.storeFailed);
    const received = receivedField({
      helo: facts.helo,
      clientAddress: this.clientAddress,
      hostName: context.host.name,
      protocol: facts.protocol,
      id,
      at: now,
    });
    // From here the reservation belongs to the acceptance, even when the connection closes meanwhile.
    const reservation = transaction.handOver();
    const message = {
      journey: { ...this.facts(transaction, summary), at, signsFor: prepared.signsFor },
      content: Buffer.concat([Buffer.from(received + prepared.ours, 'latin1'), prepared.text]),
      recipients: [...transaction.planned.values()],
      steps: transaction.steps,
      folder: prepared.folder,
      payer: transaction.payer && { reservation, payer: transaction.payer, bytes: content.length },
    };
    try {
      await acceptMessage(context, message);
    } catch (error) {
      if (reservation) context.limits.release(reservation);
      throw error;
    } finally {
      transaction.releasePlaces();
    }
    this.transaction = null;
    void reportGoodNews(context, message, transaction.expanded).catch((error) => this.fault(error));
    return yes(REPLIES.accepted(id));
  }

  /** A submission: whose name it bears, what it lacks, and who signs it. */
  private prepare(submitter: Submitter, transaction: Transaction, content: Buffer): Prepared {
    const { context } = this;
    const reading = readSubmission(content);
    if (reading.kind === 'refused') return { kind: 'refused', reply: REPLIES.unreadableSubmission(reading.reason) };
    const foreign = reading.from.find((address) => !mayUse(context, submitter, address));
    if (foreign !== undefined) return { kind: 'refused', reply: notYours(submitter, foreign) };
    const now = context.clock.now();
    const domain = signerOf(context, submitter, reading.from[0] ?? '');
    const added = missingFields(reading.missing, { at: now, unique: transaction.id, domain: domain ?? context.host.name });
    const text = added === '' ? content : Buffer.concat([Buffer.from(added, 'latin1'), content]);
    if (added !== '') transaction.step('completed', { added: reading.missing });
    return { kind: 'ready', text, ours: '', signsFor: domain, folder: 'Inbox' };
  }

  /** Mail from outside: what SPF, DKIM and DMARC say of it. */
  private async judge(transaction: Transaction, content: Buffer, helo: string): Promise<Prepared> {
    const sender = transaction.sender ? formatAddress(transaction.sender) : '';
    const judged = await judgeArrival(
      this.context,
      { clientAddress: this.clientAddress, helo, sender, content },
      transaction.judge ?? 'note',
    );
    transaction.step('judged', judged.data);
    if (judged.refusal) return { kind: 'refused', reply: judged.refusal };
    return { kind: 'ready', text: judged.content, ours: judged.field, signsFor: null, folder: judged.folder };
  }

  private async startQueue(argument: string): Promise<Decision> {
    const reply = await startQueue(this.context, argument, this.clientAddress);
    return reply.code < 300 ? yes(reply) : no(reply);
  }

  private facts(transaction: Transaction, { subject, messageId }: { subject: string; messageId: string | null }) {
    const { parameters } = transaction;
    return {
      id: transaction.id,
      at: transaction.at,
      kind: this.submitter ? ('submitted' as const) : ('received' as const),
      sender: transaction.sender && formatAddress(transaction.sender),
      recipients: transaction.recipients.slice(0, 20).join(', '),
      subject,
      messageId,
      client: this.clientAddress,
      domain: transaction.domain,
      mailbox: this.submitter?.kind === 'mailbox' ? this.submitter.mailbox.address : null,
      envelopeId: parameters.envelopeId,
      returnContent: parameters.returnContent,
      smtputf8: parameters.smtputf8 ? 1 : 0,
      signsFor: null,
    };
  }

  /** Says no, and journals it as long as anybody would want to read that. */
  private async refuse(
    reply: Reply,
    recipient?: string,
    summary: { subject: string; messageId: string | null } = NOTHING_READ,
  ): Promise<Decision> {
    const transaction = this.transaction;
    if (!transaction) return no(reply);
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
    const facts = this.facts(transaction, summary);
    await recordRefusal(this.context, { ...facts, recipients: recipient ?? facts.recipients, size: 0 }, transaction.steps, {
      ...reply,
      text,
      at,
    });
    // What is in the journal now is not written again.
    transaction.steps = [];
    return no(reply);
  }
}

type Prepared =
  | {
      kind: 'ready';
      text: Buffer;
      /** Fields of our own: the results of what arrived. */
      ours: string;
      signsFor: string | null;
      folder: 'Inbox' | 'Junk';
    }
  | { kind: 'refused'; reply: Reply };

const NOTHING_READ = { subject: '', messageId: null };
