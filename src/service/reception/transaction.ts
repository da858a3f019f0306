import type { EventOf } from '../../core/journal/events.ts';
import { amountsOf, NONE } from '../../core/limits/amounts.ts';
import { scopeKey } from '../../core/limits/scope-key.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import type { Envelope } from '../../core/smtp/server/envelope.ts';
import type { Judge } from '../../core/vocabulary.ts';
import type { JourneyStep } from '../../store/journeys.ts';
import type { Payer } from '../../store/ledger.ts';
import { scopeName } from '../../store/limits.ts';
import { limitText } from '../../texts/en/limits.ts';
import type { PlannedRecipient } from '../acceptance/planned-recipient.ts';
import { roomWords } from '../limits/limit-words.ts';
import type { Refusal } from '../limits/refusal.ts';
import type { Reservation } from '../limits/reservation.ts';
import { type Refused, refused } from './client.ts';
import type { ReceptionDeps } from './deps.ts';

/** One message under way in a conversation: who it is for so far, and what was promised to it. */
export class Transaction {
  readonly planned = new Map<string, PlannedRecipient>();
  /** As the client wrote them. */
  readonly recipients: string[] = [];
  steps: JourneyStep[] = [];
  refusals = 0;
  /** The domain here that the message belongs to. */
  domain: string | null = null;
  /** What the recipients' domains do with forged mail; one transaction has one answer for all. */
  judge: Judge | null = null;
  /** The smallest size that a recipient's domain takes. */
  sizeLimit: { domain: string; most: number } | null = null;
  /** Who pays for what is submitted here; null for mail of strangers. */
  submittedBy: Payer | null = null;
  /** Inbound mail may make several domains pay: one journey each has one payer. */
  payer: Payer | null = null;
  /** Recipients whose aliases led to several, where the sender wants to hear of success (RFC 3461 §5.2.7). */
  readonly expanded: { recipient: string; original: string | null }[] = [];
  private reservation: Reservation | null = null;
  private readonly places: string[] = [];

  constructor(
    private readonly context: ReceptionDeps,
    readonly id: string,
    readonly at: number,
    readonly envelope: Envelope,
  ) {}

  /**
   * The address here that leads the message out again, when it came for that one alone: with several recipients a field that names
   * one would tell the others of it (RFC 9228 §4).
   */
  get forwardedBy(): string | null {
    const [only, ...others] = this.recipients;
    if (only === undefined || others.length > 0) return null;
    const isLed = [...this.planned.values()].some(({ destination }) => destination.kind === 'outside' && destination.payer !== null);
    return isLed ? only : null;
  }

  step(what: EventOf): void {
    this.steps.push({ at: this.context.clock.now(), ...what });
  }

  /** Promises room for sends of a payer, or a place among those that wait for room; a reply when there is neither. */
  promise(payer: Payer, sends: number): { kind: 'room' } | { kind: 'held'; account: string } | Refused {
    // One journey has one payer; recipients of another come in a transaction of their own (RFC 5321 §4.5.3.1.10).
    if (this.payer && (this.payer.domainId !== payer.domainId || this.payer.networkId !== payer.networkId))
      return refused(REPLIES.tooManyRecipients, 'one payer a message');
    const first = this.reservation === null;
    const asked = amountsOf({ sends, bytes: this.envelope.parameters.size ?? 0, isFirst: first });
    const decision = this.context.limits.reserve(payer, asked, this.reservation);
    if (decision.kind === 'room') {
      this.payer = payer;
      this.reservation = decision;
      return { kind: 'room' };
    }
    const taken = this.wait(decision, sends);
    if (taken.kind === 'held') this.payer = payer;
    return taken;
  }

  /**
   * The text is there: promises the room for its octets. What does not fit waits whole, or is refused. Returns null when all is well.
   */
  fit(octets: number): Reply | null {
    const { reservation, payer } = this;
    if (!reservation || !payer) return null;
    const more = octets - reservation.amounts.bytes;
    if (more <= 0) return null;
    const decision = this.context.limits.reserve(reservation.by, { ...NONE, bytes: more }, reservation);
    if (decision.kind === 'room') return null;
    const outside = [...this.planned.values()].filter((one) => one.isCharged);
    const taken = this.wait(decision, outside.length);
    if (taken.kind === 'refused') return taken.reply;
    this.context.limits.release(reservation);
    this.reservation = null;
    for (const one of outside) Object.assign(one, { isCharged: false, held: 'limit', fullScope: taken.account });
    return null;
  }

  /** The room passes to whoever accepts the message; places among the waiting are about to be written down. */
  handOver(): Reservation | null {
    const { reservation } = this;
    this.reservation = null;
    return reservation;
  }

  /** Gives back everything that was promised. */
  release(): void {
    if (this.reservation) this.context.limits.release(this.reservation);
    this.reservation = null;
    this.releasePlaces();
  }

  releasePlaces(): void {
    for (const account of this.places.splice(0)) this.context.holds.release(account);
  }

  private wait(refusal: Refusal, recipients: number): { kind: 'held'; account: string } | Refused {
    const { db, limits, holds } = this.context;
    const { scope } = refusal;
    const name = scopeName(db, scope) ?? 'the sender';
    const words = limitText(refusal.limit);
    if (!refusal.hold)
      return refused(
        REPLIES.limitReached(name, words, roomWords(refusal, limits.wholeSecond(refusal.roomAt))),
        `limit of the ${scope.kind}`,
      );
    const account = scopeKey(scope);
    const { holdMost } = limits.choice(scope).choice;
    const taken: string[] = [];
    for (let at = 0; at < recipients; at += 1) {
      if (!holds.take(account, holdMost)) {
        for (const one of taken) holds.release(one);
        return refused(REPLIES.heldEnough(name, words, holdMost), 'when full: hold, and as many wait as may');
      }
      taken.push(account);
    }
    this.places.push(...taken);
    this.step({ event: 'over-limit', data: { scope: name, limit: words, recipients, roomAt: limits.wholeSecond(refusal.roomAt) } });
    return { kind: 'held', account };
  }
}
