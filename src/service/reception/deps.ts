import type { WeightGate } from '../../core/gate.ts';
import type { OctetBudget } from '../../core/smtp/octet-budget.ts';
import type { AccessDeps } from '../access/deps.ts';
import type { DeliveryDeps } from '../delivery/deps.ts';
import type { PrimaryQuestions } from './primary-questions.ts';

/** What a conversation with a client needs. */
export interface ReceptionDeps extends DeliveryDeps, AccessDeps {
  /** Octets of messages that come in, over all conversations. */
  underWay: OctetBudget;
  /** Messages that are being judged, signed for and stored: each takes a few times its size while that lasts. */
  taking: WeightGate;
  /** What is asked of servers that have the mailboxes of a domain here. */
  primaries: PrimaryQuestions;
}
