import { type Address, addressKey, formatAddress, parseAddress, withoutTag } from '../core/address/mailbox-address.ts';
import { missingFields, readSubmission, subjectOf } from '../core/message/submission.ts';
import { receivedField } from '../core/message/trace.ts';
import type { Destination } from '../core/routing/recipients.ts';
import { REPLIES, type Reply } from '../core/smtp/replies.ts';
import type { Intent } from '../core/smtp/server-session.ts';
import type { Judge } from '../store/domains.ts';
import { aliasesOf } from '../store/mailboxes.ts';
import { acceptMessage, recordRefusal, type Step } from './accept-message.ts';
import type { ServiceContext } from './context.ts';
import { judgeArrival } from './judge.ts';
import { limitWords, type Reservation } from './limits.ts';
import { HOST_ITSELF, knownDomain, mustReachSomebody, route } from './routing.ts';
import { newJourneyId } from './secrets.ts';
import { type SignedIn, signInMailbox } from './sign-in-mailbox.ts';

export interface SessionFacts {
  helo: string;
  protocol: 'SMTP' | 'ESMTP' | 'ESMTPS' | 'ESMTPA' | 'ESMTPSA';
  secure: boolean;
  user: string | null;
}

export interface Decision {
  accepted: boolean;
  reply: Reply;
}

interface Transaction {
  id: string;
  at: number;
  sender: Address | null;
  destinations: Map<string, Destination>;
  recipients: string[];
  /** Who pays for outside recipients, with the room promised so far. Inbound mail may make several domains pay: one journey each has one payer. */
  reservation: Reservation | null;
  domain: string | null;
  /** What the recipients' domains do with forged mail; one transaction has one answer for all. */
  judge: Judge | null;
  steps: Step[];
  refusals: number;
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
  private signedIn: SignedIn | null = null;
  private transaction: Transaction | null = null;
  private isClosed = false;

  constructor(
    private readonly context: ServiceContext,
    private readonly service: 'inbound' | 'submission',
    private readonly clientAddress: string,
  ) {}

  async decide(intent: Intent, facts: SessionFacts): Promise<Decision> {
    // What a client pipelined before it went away is not begun any more: nobody would release its room.
    if (this.isClosed) return no(REPLIES.storeFailed);
    switch (intent.kind) {
      case 'sign-in':
        return this.signIn(intent.user, intent.password);
      case 'sender':
        return this.sender(intent.sender, facts);
      case 'recipient':
        return this.recipient(intent.recipient);
      case 'message':
        return this.message(intent.content, facts);
    }
  }

  /** The message under way is given up. */
  abandon(): void {
    if (this.transaction?.reservation) this.context.limits.release(this.transaction.reservation);
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
    this.signedIn = result.mailbox;
    return yes(REPLIES.signedIn);
  }

  private async sender(sender: Address | null, facts: SessionFacts): Promise<Decision> {
    const { clock } = this.context;
    const at = clock.now();
    this.abandon();
    const transaction: Transaction = {
      id: newJourneyId(at),
      at,
      sender,
      destinations: new Map(),
      recipients: [],
      reservation: null,
      domain: this.signedIn?.domain ?? null,
      judge: null,
      steps: [
        {
          at,
          event: 'connected',
          data: {
            client: this.clientAddress,
            helo: facts.helo.slice(0, 255),
            service: this.service,
            tls: facts.secure,
            user: this.signedIn?.address ?? null,
          },
        },
      ],
      refusals: 0,
    };
    this.transaction = transaction;
    if (this.signedIn) {
      if (!sender) return this.refuse(REPLIES.nullSenderNotHere);
      if (!this.mayUse(formatAddress(sender))) return this.refuse(REPLIES.senderNotYours(formatAddress(sender), this.signedIn.address));
    }
    return yes(REPLIES.senderOk);
  }

  /** The mailbox's own address, with any tag, and the aliases that lead to it. */
  private mayUse(text: string): boolean {
    const parsed = parseAddress(text);
    if (!this.signedIn || parsed.kind === 'invalid') return false;
    const plain = `${withoutTag(parsed.address.local.toLowerCase())}@${parsed.address.domain}`;
    return (
      plain === this.signedIn.address ||
      addressKey(parsed.address) === this.signedIn.address ||
      aliasesOf(this.context.db, this.signedIn.address).includes(plain)
    );
  }

  private async recipient(recipient: Address): Promise<Decision> {
    const transaction = this.transaction;
    if (!transaction) return no(REPLIES.mailFirst);
    const written = formatAddress(recipient);
    const home = knownDomain(this.context, recipient.domain);
    const isHere = home !== null && home.role !== 'away';
    if (this.service === 'inbound') {
      transaction.domain ??= isHere ? recipient.domain : null;
      if (!isHere) return this.refuse(REPLIES.noRelay(recipient.domain), written);
    }
    const routing = route(this.context, recipient);
    switch (routing.kind) {
      case 'unknown-mailbox':
        // As long as the host's postmaster is not set up, such mail waits with its sender instead of being lost.
        return this.refuse(mustReachSomebody(recipient.local) ? REPLIES.nobodyYet(written) : REPLIES.unknownMailbox(written), written);
      case 'full':
        return this.refuse(REPLIES.mailboxFull(routing.address), written);
      case 'loop':
        return this.refuse(REPLIES.aliasLoop(routing.address), written);
      case 'not-yet':
        return this.refuse(REPLIES.roleNotYet(routing.domain, routing.role), written);
    }
    // Postmaster and abuse of the host itself go along with whoever else gets the message.
    if (this.service === 'inbound' && home && home.id !== HOST_ITSELF) {
      if (transaction.judge !== null && transaction.judge !== home.judge) return this.refuse(REPLIES.otherJudge, written);
      transaction.judge = home.judge;
    }
    const fresh = routing.destinations.filter((one) => !transaction.destinations.has(one.address));
    const refusal = this.reserve(transaction, recipient.domain, fresh.filter((one) => one.kind === 'outside').length);
    if (refusal) return this.refuse(refusal, written);
    for (const one of fresh) transaction.destinations.set(one.address, one);
    transaction.recipients.push(written);
    if (routing.through.length > 0)
      transaction.steps.push({
        at: this.context.clock.now(),
        event: 'expanded',
        data: { recipient: written, through: routing.through, to: routing.destinations.map((one) => one.address) },
      });
    return yes(REPLIES.recipientOk);
  }

  /** Promises room for outside recipients. The signed-in sender's domain pays; for mail from outside, the domain whose alias leads out again. */
  private reserve(transaction: Transaction, recipientDomain: string, sends: number): Reply | null {
    if (sends === 0) return null;
    const { limits } = this.context;
    const payerName = this.signedIn?.domain ?? recipientDomain;
    const payer = knownDomain(this.context, payerName);
    if (!payer) return REPLIES.noRelay(recipientDomain);
    // The host's own postmaster has no limit and no ledger.
    if (payer.id === HOST_ITSELF) return null;
    // One journey has one payer; recipients of another domain come in a transaction of their own (RFC 5321 §4.5.3.1.10).
    if (transaction.reservation && transaction.reservation.domainId !== payer.id) return REPLIES.tooManyRecipients;
    const { decision, reservation } = limits.reserve(payer.id, { hour: payer.hour, day: payer.day }, sends);
    if (decision.kind === 'full' || !reservation) {
      const words = decision.kind === 'full' ? limitWords(decision) : { limit: '', room: '' };
      return REPLIES.limitReached(payerName, words.limit, words.room);
    }
    if (transaction.reservation) transaction.reservation.sends += sends;
    else transaction.reservation = reservation;
    return null;
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
    const { clock, host, keys } = this.context;
    const { id, at } = transaction;
    const now = clock.now();
    let text = content;
    let subject: string;
    // Fields of our own: the signatures of what leaves, the results of what arrived.
    let ours = '';
    let folder: 'Inbox' | 'Junk' = 'Inbox';
    if (this.signedIn) {
      const reading = readSubmission(content);
      if (reading.kind === 'refused') return this.refuse(REPLIES.unreadableSubmission(reading.reason));
      subject = reading.subject;
      const foreign = reading.from.find((address) => !this.mayUse(address));
      if (foreign !== undefined) return this.refuse(REPLIES.senderNotYours(foreign, this.signedIn.address), undefined, subject);
      const added = missingFields(reading.missing, { at: now, unique: id, domain: this.signedIn.domain });
      if (added !== '') {
        text = Buffer.concat([Buffer.from(added, 'latin1'), content]);
        transaction.steps.push({ at: now, event: 'completed', data: { added: reading.missing } });
      }
      const signed = await keys.signaturesFor(text, { id: this.signedIn.domainId, name: this.signedIn.domain }, now);
      if (signed) {
        ours = signed.fields;
        transaction.steps.push({
          at: clock.now(),
          event: 'signed',
          data: { domain: this.signedIn.domain, selector: signed.selectors.join(' and ') },
        });
      }
    } else {
      subject = subjectOf(content);
      const sender = transaction.sender ? formatAddress(transaction.sender) : '';
      const arrival = { clientAddress: this.clientAddress, helo: facts.helo, sender, content };
      const judged = await judgeArrival(this.context, arrival, transaction.judge ?? 'note');
      transaction.steps.push({ at: clock.now(), event: 'judged', data: judged.data });
      if (judged.refusal) return this.refuse(judged.refusal, undefined, subject);
      text = judged.content;
      ours = judged.field;
      folder = judged.folder;
    }
    // The client went away while keys or name servers were asked: its room is free again, and nobody waits for an answer.
    if (this.transaction !== transaction) return no(REPLIES.storeFailed);
    const received = receivedField({
      helo: facts.helo,
      clientAddress: this.clientAddress,
      hostName: host.name,
      protocol: facts.protocol,
      id,
      at: now,
    });
    // From here the reservation belongs to the acceptance, even when the connection closes meanwhile.
    const { reservation } = transaction;
    transaction.reservation = null;
    try {
      await acceptMessage(this.context, {
        journey: { ...this.facts(transaction, subject), at },
        content: Buffer.concat([Buffer.from(received + ours, 'latin1'), text]),
        destinations: [...transaction.destinations.values()],
        steps: transaction.steps,
        folder,
        payer: reservation && { reservation, mailboxId: this.signedIn?.id ?? null },
      });
    } catch (error) {
      if (reservation) this.context.limits.release(reservation);
      throw error;
    }
    this.transaction = null;
    return yes(REPLIES.accepted(id));
  }

  private facts(transaction: Transaction, subject: string) {
    return {
      id: transaction.id,
      at: transaction.at,
      kind: this.signedIn ? ('submitted' as const) : ('received' as const),
      sender: transaction.sender && formatAddress(transaction.sender),
      recipients: transaction.recipients.slice(0, 20).join(', '),
      subject,
      client: this.clientAddress,
      domain: transaction.domain,
    };
  }

  /** Says no, and journals it as long as anybody would want to read that. */
  private async refuse(reply: Reply, recipient?: string, subject = ''): Promise<Decision> {
    const transaction = this.transaction;
    if (!transaction) return no(reply);
    const at = this.context.clock.now();
    const text = recipient === undefined ? reply.text : `${reply.text} (${recipient})`;
    const line = `${reply.code} ${reply.status ?? ''} ${reply.text}`;
    if (transaction.destinations.size > 0) {
      // Others of this message may still be accepted: the refusal becomes one of its steps.
      if (recipient !== undefined) {
        if (transaction.refusals < MOST_REFUSALS) transaction.steps.push({ at, event: 'refused', data: { recipient, reply: line } });
        transaction.refusals += 1;
        return no(reply);
      }
    }
    transaction.refusals += 1;
    if (transaction.refusals > MOST_REFUSALS) return no(reply);
    const facts = this.facts(transaction, subject);
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
