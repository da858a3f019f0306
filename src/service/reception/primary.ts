import { withoutTag } from '../../core/address/mailbox-address.ts';
import { domainSide, localSide } from '../../core/address/sides.ts';
import type { Destination } from '../../core/routing/recipients.ts';
import type { DomainFacts } from '../../store/domains.ts';
import { findKnown, keepKnown, YES_KEPT_MS } from '../../store/known-recipients.ts';
import { primaryHosts } from '../delivery/primary-hosts.ts';
import type { ReceptionDeps } from './deps.ts';
import type { PrimaryAnswer, QuestionEnd } from './primary-questions.ts';

const DAY = 24 * 3_600_000;
const YES_FRESH_MS = DAY;
const NO_FRESH_MS = 10 * 60_000;

/**
 * Whether an address exists on the server that has its mailboxes, so that nothing is accepted that would have to be returned:
 * by the list that was given, by what that server said lately, or by asking it now.
 */
export async function askPrimary(context: ReceptionDeps, recipient: Destination, domain: DomainFacts): Promise<PrimaryAnswer> {
  const { db, clock } = context;
  const local = localSide(recipient.address).toLowerCase();
  if (domain.recipientList !== null) {
    const list = domain.recipientList;
    return list.has(local) || list.has(withoutTag(local)) ? { kind: 'yes' } : { kind: 'no', text: '' };
  }
  const now = clock.now();
  const known = findKnown(db, domain.id, local);
  if (known && now - known.at < (known.isThere ? YES_FRESH_MS : NO_FRESH_MS))
    return known.isThere ? { kind: 'yes' } : { kind: 'no', text: '' };
  const answer = await context.primaries.ask(domain.id, (end) => ask(context, recipient, domain, end));
  if (answer.kind === 'unknown') return known?.isThere && now - known.at < YES_KEPT_MS ? { kind: 'yes' } : answer;
  await db.commit(() => keepKnown(db, domain.id, local, answer.kind === 'yes', now));
  return answer;
}

async function ask(
  context: ReceptionDeps,
  recipient: Destination,
  domain: DomainFacts,
  { watch, isOver }: QuestionEnd,
): Promise<PrimaryAnswer> {
  const name = domainSide(recipient.address);
  const found = await primaryHosts(context, name, domain.primaryServer);
  if (found.kind !== 'hosts') return { kind: 'unknown' };
  const envelope = {
    sender: null,
    recipients: [{ address: recipient.address, notify: null, original: null }],
    content: null,
    smtputf8: false,
    returnContent: null,
    envelopeId: null,
  };
  for (const host of found.hosts) {
    if (isOver()) break;
    const result = await context.send(host, envelope, watch);
    const outcome = result.kind === 'done' ? result.outcomes[0] : undefined;
    if (!outcome) continue;
    if (outcome.kind === 'taken') return { kind: 'yes' };
    return outcome.kind === 'never' ? { kind: 'no', text: `${outcome.reply.code} ${outcome.reply.text}` } : { kind: 'unknown' };
  }
  return { kind: 'unknown' };
}
